"""Write the figures of `figures.toml` into all pages that quote them.

usage: python docs/figures.py [FOLDER]

A text of `figures.toml` stands for its page's text with the measured values in place of the names in braces. With a
FOLDER in which the tutorial was followed, its figures are measured first; those of benchmarks are changed by hand.
"""

import re
import sys
import tomllib
from pathlib import Path
from typing import Any

import barn_owl

ROOT = Path(__file__).parents[1]
NUMBER = r"[-+]?\d[\d.,]*"
"""A value in a page: a number, also with a sign or thousands."""


def differing(*, write: bool = False) -> list[str]:
    """Return what the pages say otherwise than the file, ``page: text``; correct it with `write`.

    Raises ValueError when a page has no such text.
    """
    content = tomllib.loads((ROOT / "docs/figures.toml").read_text("utf-8"))
    found = []
    for page, texts in content["pages"].items():
        path = ROOT / page
        before = after = path.read_text("utf-8")
        for text in texts:
            parts = re.split(r"{([\w.]+)}", text)
            pattern = "".join(re.escape(part) if n % 2 == 0 else NUMBER for n, part in enumerate(parts))
            wanted = "".join(part if n % 2 == 0 else value_of(part, content) for n, part in enumerate(parts))
            matches = re.findall(pattern, after)
            if not matches:
                raise ValueError(f"{page} has no text like: {text}")
            found += [f"{page}: {match}, measured: {wanted}" for match in matches if match != wanted]
            after = re.sub(pattern, lambda _: wanted, after)  # noqa: B023 - called at once
        if write and after != before:
            path.write_text(after, "utf-8")
    return found


def value_of(name: str, content: dict[str, Any]) -> str:
    """Return a figure by its dotted name."""
    value: Any = content
    for key in name.split("."):
        value = value[key]
    return str(value)


def measured(folder: Path) -> dict[str, dict[str, str]]:
    """Return the figures of a folder in which the tutorial was followed."""
    run, harbor = barn_owl.open_run(folder / "first"), folder / "saltmarsh-quay"
    evaluation, expected = run.evaluate(), run.expectation
    low, high = evaluation.scores.overall.loc["balanced_accuracy", ["low", "high"]]
    nights = {
        (name, night): barn_owl.score_events(
            barn_owl.tag_recording(folder / name, recording),
            harbor / f"{night}truth.csv",
            seconds={str(recording): barn_owl.audio_info(recording).duration_s},
        )
        for name, night, recording in (
            ("first", "", harbor / "night.flac"),
            ("first", "second-", harbor / "second-night.flac"),
            ("second", "second-", harbor / "second-night.flac"),
        )
    }
    first_night = nights["first", ""]
    demo = {
        "clips": f"{evaluation.scores.balanced_accuracy:.2f}", "clips_low": f"{low:.2f}", "clips_high": f"{high:.2f}",
        "onset_ms": f"{1000 * first_night.matches['onset_error_s'].abs().median():.0f}", **_events(first_night, ""),
    }  # fmt: skip
    if expected is not None:
        low, high = run.group_spread.range_of(expected["at_density"]["event_f1"])
        demo |= {"range_low": f"{low:.2f}", "range_high": f"{high:.2f}"}
    second = _events(nights["first", "second-"], "_before") | _events(nights["second", "second-"], "")
    return {"demo": demo, "second": second}


def _events(found: barn_owl.evaluate.EventScores, ending: str) -> dict[str, str]:
    values = {
        "f1": f"{found.f1:.2f}", "recall": f"{found.recall:.2f}", "precision": f"{found.precision:.2f}",
        "false_alarms": f"{found.false_alarms_per_hour:.0f}", "unknown": str((found.unknown["raised"] != "").sum()),
    }  # fmt: skip
    return {name + ending: value for name, value in values.items()} | {"unknown_of": str(len(found.unknown))}


def main() -> None:
    """Correct the pages; with a folder of the tutorial, measure first."""
    path = ROOT / "docs/figures.toml"
    for folder in sys.argv[1:]:
        text = path.read_text("utf-8")
        for section, values in measured(Path(folder)).items():
            for name, value in values.items():
                text = re.sub(rf'(?ms)(^\[{section}\].*?^{name} = ")[^"]*', rf"\g<1>{value}", text, count=1)
        path.write_text(text, "utf-8")
    print("\n".join(differing(write=True)) or "all pages agree")


if __name__ == "__main__":
    main()
