"""Review answers: an append-only file of JSON lines, and the clip table made from it.

Nothing is lost in a crash, and several people may add to one file: the last answer to an item counts.
"""

import json
import os
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path
from typing import Any, Literal, get_args

import numpy as np
import pandas as pd

from barn_owl.annotation.items import STRETCH
from barn_owl.clips import check_clip_table
from barn_owl.errors import OutputError, TableError

Verdict = Literal["right", "wrong", "other", "unsure", ""]
VERDICTS = get_args(Verdict)


@dataclass(frozen=True, kw_only=True)
class ReviewAnswer:
    """The answer to an item. For a stretch, ``wrong`` means that nothing begins in it, ``other`` that a label does.

    Attributes
    ----------
    item : str
        See `item_key`.
    verdict : Verdict
        "" takes an answer back.
    sounds : Sequence[tuple[str, float, float]]
        What is there, as label, start and end in seconds of the recording: one for an event that is right or
        another, any number for a stretch.

    Examples
    --------
    >>> answer = barn_owl.annotation.ReviewAnswer(item="night.wav 1.000 2.000 hum", verdict="right", sounds=[])
    >>> answer.verdict
    'right'
    """

    item: str
    verdict: Verdict
    sounds: Sequence[tuple[str, float, float]] = ()
    reviewer: str = ""
    when: str = ""

    @classmethod
    def checked(cls, given: Any) -> "ReviewAnswer":
        """Make one of what a page or a file says; raises TableError when it is no answer."""
        try:
            sounds = [(str(label).strip(), float(start), float(end)) for label, start, end in given.get("sounds", ())]
            made = cls(
                item=str(given["item"]), verdict=given["verdict"], sounds=sounds,
                reviewer=str(given.get("reviewer", "")), when=str(given.get("when", "")),
            )  # fmt: skip
        except (AttributeError, KeyError, TypeError, ValueError) as error:
            raise TableError(f"not a review answer: {str(given)[:200]}") from error
        if made.verdict not in VERDICTS or any(
            not label or not (0 <= start < end < np.inf) for label, start, end in made.sounds
        ):
            raise TableError(f"not a review answer: {str(given)[:200]}")
        if made.verdict in ("right", "other") and not made.sounds:
            raise TableError(f"a review answer needs labels and times of its sounds; got {str(given)[:200]}")
        return made


def item_key(item: Mapping[str, Any]) -> str:
    """Key of an item that survives sorting and moving the table: file name, times, label."""
    return f"{Path(item['file']).name} {item['start_s']:.3f} {item['end_s']:.3f} {item['label']}".rstrip()


def item_keys(items: pd.DataFrame) -> list[str]:
    """Keys of all items of a table; see `item_key`."""
    return [item_key(item) for item in items.to_dict("records")]


def add_answer(path: str | Path, answer: ReviewAnswer) -> None:
    """Append an answer to the file (created if needed); it is flushed to disk before this returns.

    Raises
    ------
    OutputError
        If it cannot be written.

    Examples
    --------
    >>> answer = barn_owl.annotation.ReviewAnswer(item="night.wav 1.000 2.000 hum", verdict="wrong")
    >>> barn_owl.annotation.add_answer("answers.jsonl", answer)
    >>> barn_owl.annotation.read_reviews("answers.jsonl")["night.wav 1.000 2.000 hum"].verdict
    'wrong'
    """
    record = asdict(answer) | {"when": answer.when or datetime.now().astimezone().isoformat(timespec="seconds")}
    line = json.dumps(record, ensure_ascii=False, allow_nan=False) + "\n"
    try:
        # A line that was cut off by a crash must not spoil the one behind it.
        with Path(path).open("ab+") as file:
            if file.tell():
                file.seek(-1, os.SEEK_END)
                line = line if file.read(1) == b"\n" else "\n" + line
            file.write(line.encode())
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise OutputError(f"{path} cannot be written: {error.strerror or error}") from error


def read_reviews(path: str | Path) -> dict[str, ReviewAnswer]:
    """Read the last answer to each item; skips a truncated last line.

    Raises
    ------
    TableError
        If the file cannot be read, or a line is no answer.

    Examples
    --------
    >>> barn_owl.annotation.add_answer("own.jsonl", barn_owl.annotation.ReviewAnswer(item="a", verdict="unsure"))
    >>> list(barn_owl.annotation.read_reviews("own.jsonl"))
    ['a']
    """
    try:
        lines = Path(path).read_text(encoding="utf-8").split("\n")
    except (OSError, UnicodeDecodeError) as error:
        raise TableError(f"{path} cannot be read as answers: {error}") from error
    answers: dict[str, ReviewAnswer] = {}
    for number, line in enumerate(lines, start=1):
        if not line.strip():
            continue
        try:
            given = json.loads(line)
        except json.JSONDecodeError as error:
            if line.lstrip().startswith("{") and not line.rstrip().endswith("}"):
                continue  # cut off by a crash
            raise TableError(f"{path}, line {number}: not a review answer: {line[:200]}") from error
        answer = ReviewAnswer.checked(given)
        if answer.verdict:
            answers[answer.item] = answer
        else:
            answers.pop(answer.item, None)
    return answers


def reviewed_clips(items: pd.DataFrame, answers: dict[str, ReviewAnswer]) -> pd.DataFrame:
    """Make the clip table of a review: confirmed stretches with their label, rejected ones with a blank label.

    Items without an answer, or answered "unsure", are skipped, as are stretches with nothing in them. Columns
    ``predicted`` is the label that was reviewed, ``answer`` the verdict.

    Raises
    ------
    TableError
        If a table is invalid.

    Examples
    --------
    >>> items = barn_owl.annotation.review_items(barn_owl.read_events("events.csv"), stretches=0)
    >>> key = item_key(items.iloc[0])
    >>> answers = {key: barn_owl.annotation.ReviewAnswer(item=key, verdict="wrong")}
    >>> barn_owl.annotation.reviewed_clips(items, answers)["label"].tolist()
    ['']
    """
    rows: list[dict[Any, Any]] = []
    for item in items.to_dict("records"):
        answer = answers.get(item_key(item))
        if answer is None or answer.verdict == "unsure":
            continue
        common = {"file": item["file"], "score": item["score"], "predicted": item["label"], "answer": answer.verdict}
        if answer.verdict == "wrong":
            if item["kind"] != STRETCH:
                rows.append({**common, "start_s": item["start_s"], "end_s": item["end_s"], "label": ""})
            continue
        for label, start_s, end_s in answer.sounds:
            rows.append({**common, "start_s": start_s, "end_s": end_s, "label": label})
    columns = ["file", "start_s", "end_s", "label", "score", "predicted", "answer"]
    table = pd.DataFrame(rows, columns=columns).astype({"start_s": float, "end_s": float, "score": float})
    return check_clip_table(table.sort_values(["file", "start_s"], kind="stable", ignore_index=True))
