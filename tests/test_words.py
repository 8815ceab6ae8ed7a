"""Prose of the project uses the terms of the field: a list of turns that readers stumble over."""

import ast
import re
from pathlib import Path

ROOT = Path(__file__).parents[1]
STUMBLES = [
    r"\b(is|are) (told|said)\b",
    r"(?<!there )\b(is|are) none\b",
    r"\bis no (event|label|sound|feature|object|table|file|clip|model)\b",
    r"\bfrom which on\b",
    r"\bwhat (speaks|stands|follows|comes|counts)\b",
    r"\bnever heard\b|\bunheard\b",
    r"\bhouse style\b|\bby heart\b|\bat hand\b",
    r"\bbeside\b",
    r"\bsur(er|est)\b",
    r"\banew\b|\bthereby\b|\bwherein\b",
    r"\b(a|an|each) (clip|row|step|file|folder|fold) a (label|row|clip|file|device)\b",
    r"\btaken for\b",
    r"\b(colour|neighbour|behaviour|normalis|organis|labelled|mislabelled|licence)\w*",
]


def passages(path: Path) -> list[str]:
    """Prose of a Markdown page without code, or docstrings and messages of a module."""
    text = path.read_text("utf-8")
    if path.suffix == ".md":
        return re.sub(r"```.*?```|`[^`\n]*`", "", text, flags=re.DOTALL).splitlines()
    strings = [node.value for node in ast.walk(ast.parse(text)) if isinstance(node, ast.Constant)]
    return [line for one in strings if isinstance(one, str) and " " in one for line in one.splitlines()]


def test_prose_avoids_turns_that_readers_stumble_over():
    pages = [*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md"), *(ROOT / "src").rglob("*.py")]
    assert len(pages) > 200
    found = [
        f"{page.relative_to(ROOT)}: {line.strip()}"
        for page in pages
        for line in passages(page)
        if any(re.search(turn, line) for turn in STUMBLES)
    ]
    assert not found, "\n".join(found)


RETIRED = {
    "parted",
    "turned",
    "Sorter",
    "USES",
    "SOUNDS",
    "NAMES_COUNT",
    "NONE_COUNTS",
    "ONSETS_COUNT",
    "names_events",
}
RETIRED |= {"whole_file", "heard_s", "made_front_end", "pooled_by_attention", "Trace", "Decider", "Members", "scene"}
RETIRED |= {"scenes", "SceneMaker", "family", "Family", "hear", "hears", "surest", "is_elsewhere", "tells", "telling"}
"""Names that have been replaced by terms of the field; see the glossary."""
TERMS = [
    "activity",
    "onset",
    "segment",
    "label logits",
    "embedding",
    "loss weight",
    "mixture",
    "signal-to-noise ratio",
]
TERMS += [
    "background",
    "candidate",
    "decoder",
    "threshold",
    "hysteresis",
    "receptive field",
    "stride",
    "batch",
    "channel",
]


def test_names_in_the_code_are_terms_of_the_field():
    glossary = (ROOT / "docs/reference/glossary.md").read_text("utf-8")
    assert [term for term in TERMS if f"**{term}**" not in glossary] == []
    found = set()
    for path in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            names = {getattr(node, key, None) for key in ("id", "name", "attr", "arg")}
            found |= {(path.name, name) for name in names if isinstance(name, str) and name in RETIRED}
    assert sorted(found) == []
