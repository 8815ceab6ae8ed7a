"""The docs say what the library computes, and define the terms that they use."""

import importlib.util
import re
from pathlib import Path

import pandas as pd

import barn_owl as owl

DOCS = Path(__file__).parents[1] / "docs"
GENERATED = ("reference", "experiments.md", "architecture.md")


def test_the_worked_recording_of_ten_events_has_the_scores_that_the_page_says():
    page = (DOCS / "explanation/reading-the-results.md").read_text("utf-8")
    lines = [line for line in page.splitlines() if re.match(r"\| *[\d|]", line)]
    rows = [[cell.strip() for cell in line.strip("|").split("|")] for line in lines]

    def table(onset: int, label: int) -> pd.DataFrame:
        kept = [(float(row[onset]), row[label]) for row in rows if re.fullmatch(r"[\d.]+", row[onset])]
        events = pd.DataFrame(kept, columns=["start_s", "label"])
        return events.assign(file="night.wav", end_s=events["start_s"] + 1).sort_values("start_s", ignore_index=True)

    truth, events = table(0, 1), table(2, 3)
    assert (len(truth), len(events)) == (10, 11)
    scores = owl.score_events(events, truth, seconds={"night.wav": 600.0})
    assert (len(scores.matches), len(scores.misses), len(scores.false_alarms)) == (7, 3, 4)
    said = [f"= {scores.precision:.2f}", f"= {scores.recall:.2f}", f"= {scores.f1:.2f}"]
    assert [number for number in (*said, f"= {scores.false_alarms_per_hour:.0f}") if number not in page] == []


def test_pages_with_terms_in_bold_link_to_the_glossary_that_defines_them():
    glossary = (DOCS / "reference/glossary.md").read_text("utf-8")
    terms = re.findall(r"^\*\*(.+?)\*\*", glossary, re.MULTILINE)
    assert terms == sorted(terms, key=str.lower)
    known = {term.lower() for term in terms}
    for path in DOCS.rglob("*.md"):
        if path.relative_to(DOCS).parts[0] not in GENERATED:
            text = path.read_text("utf-8")
            bold = {words.lower().strip(".:") for words in re.findall(r"\*\*(.+?)\*\*", text)}
            assert "glossary.md" in text or not bold & known, f"{path} has {bold & known}"


def test_the_glossary_has_the_terms_of_tables_of_results():
    glossary = (DOCS / "reference/glossary.md").read_text("utf-8").lower()
    shown = ["precision", "recall", "F1", "false alarm", "balanced accuracy", "ROC area", "confidence interval"]
    shown += [
        "epoch",
        "loss",
        "overfitting",
        "logit",
        "embedding",
        "calibration",
        "bootstrap",
        "score",
        "hit",
        "miss",
    ]
    assert [term for term in shown if f"**{term.lower()}**" not in glossary] == []


def test_figures_that_several_pages_quote_are_those_of_one_file():
    spec = importlib.util.spec_from_file_location("figures", DOCS / "figures.py")
    figures = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(figures)
    assert figures.differing() == []


def test_lines_of_code_fit_the_column_of_the_site():
    wide = []
    for path in (DOCS.parent / "README.md", *DOCS.rglob("*.md")):
        blocks = re.findall(
            r"^```(?:sh|python|toml|js)\n(.*?)^```", path.read_text("utf-8"), re.DOTALL | re.MULTILINE
        )
        wide += [f"{path.name}: {line}" for block in blocks for line in block.splitlines() if len(line) > 76]
    assert wide == []
