"""Review answers: an append-only file of JSON lines, and the clip table of an answered review.

Nothing is lost in a crash, and several people may add to one file: the last answer to an item counts.
"""

import json
import logging
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from pathlib import Path, PurePath
from typing import Any, Literal, get_args

import pandas as pd

from barn_owl.annotation.items import STRETCH
from barn_owl.annotation.journal import MAX_TEXT, append_lines, shown
from barn_owl.clips import check_clip_table
from barn_owl.clips.table import MAX_TIME_S, TableOrPath, as_clip_table, require_columns
from barn_owl.errors import TableError
from barn_owl.names import label_fault

logger = logging.getLogger(__name__)

Verdict = Literal["right", "wrong", "other", "unsure", ""]
VERDICTS = get_args(Verdict)


@dataclass(frozen=True, kw_only=True)
class ReviewAnswer:
    """The answer to an item. For a stretch, ``wrong`` means no onset in it, ``other`` the onset of a label.

    Attributes
    ----------
    item : str
        See `item_key`.
    verdict : Verdict
        "" takes an answer back.
    sounds : Sequence[tuple[str, float, float]]
        Label, start and end in seconds of the true sounds: one for an event that is right or has a different label,
        any number for a stretch.
    reviewer : str
        Who answered.
    when : str
        Time of the answer, ISO 8601.

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
        """Create an answer from fields of a page or a file; raises TableError when they are invalid.

        Parameters
        ----------
        given : Any
            Answer as JSON fields.
        """
        try:
            sounds = [(label.strip(), float(start), float(end)) for label, start, end in given.get("sounds", ())]
            if not isinstance(given["item"], str):
                raise TypeError("item is a text")
            answer = cls(
                item=given["item"], verdict=given["verdict"], sounds=sounds,
                reviewer=str(given.get("reviewer", "")), when=str(given.get("when", "")),
            )  # fmt: skip
        except (AttributeError, KeyError, TypeError, ValueError, OverflowError) as error:
            raise TableError(f"not a review answer: {shown(given)}") from error
        if answer.verdict not in VERDICTS or any(
            not label or not (0 <= start < end <= MAX_TIME_S) for label, start, end in answer.sounds
        ):
            raise TableError(f"not a review answer: {shown(given)}")
        if fault := next(filter(None, (label_fault(label) for label, _, _ in answer.sounds)), ""):
            raise TableError(f"not a review answer: {fault}")
        if any(len(text) > MAX_TEXT for text in (answer.item, answer.reviewer, answer.when)):
            raise TableError(f"a review answer has texts of at most {MAX_TEXT} characters; got {shown(given)}")
        if answer.verdict in ("right", "other") and not answer.sounds:
            raise TableError(f"a review answer needs labels and times of its sounds; got {shown(given)}")
        return answer


def item_key(item: Mapping[str, Any], name: str = "") -> str:
    """Return the key of an item, which survives sorting and moving the table: file name, times, label.

    name : name of the file, with as much of its path as `item_keys` needs; default the file name.

    Parameters
    ----------
    item : Mapping[str, Any]
        Row of an item table.
    """
    name = name or Path(item["file"]).name
    return f"{name} {item['start_s']:.3f} {item['end_s']:.3f} {item['label']}".rstrip()


def item_keys(items: TableOrPath) -> list[str]:
    """Return the keys of all items; files of the same name get as many of their folders as tell them apart.

    Parameters
    ----------
    items : pd.DataFrame | str | Path
        Items of `review_items`.
    """
    items = as_clip_table(items, "items")
    parts = {file: PurePath(file).parts for file in items["file"].unique()}
    names = {file: file_parts[-1] for file, file_parts in parts.items()}
    depth = 1
    while len(shared := {name for name, count in Counter(names.values()).items() if count > 1}):
        depth += 1
        longer = {file: "/".join(parts[file][-depth:]) for file, name in names.items() if name in shared}
        if all(names[file] == name for file, name in longer.items()):
            break  # the same file, written in two ways
        names |= longer
    return [item_key(item, names[item["file"]]) for item in items.to_dict("records")]


def add_answer(path: str | Path, answer: ReviewAnswer) -> None:
    """Append an answer to the file (created if needed); it is flushed to disk before this returns.

    Parameters
    ----------
    path : str | Path
        File of answers, JSON Lines.
    answer : ReviewAnswer
        Answer to append.

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
    append_lines(path, [record])


def read_reviews(path: str | Path) -> dict[str, ReviewAnswer]:
    """Read the last answer to each item; lines that are not valid answers are skipped, with a warning in the log.

    Parameters
    ----------
    path : str | Path
        File of answers, JSON Lines or JSON.

    Raises
    ------
    TableError
        If the file cannot be read, or has no answer although it is not empty.

    Examples
    --------
    >>> barn_owl.annotation.add_answer("own.jsonl", barn_owl.annotation.ReviewAnswer(item="a", verdict="unsure"))
    >>> list(barn_owl.annotation.read_reviews("own.jsonl"))
    ['a']
    """
    try:
        lines = Path(path).read_bytes().split(b"\n")
    except OSError as error:
        raise TableError(f"{path} cannot be read as answers: {error.strerror or error}") from error
    answers: dict[str, ReviewAnswer] = {}
    valid, invalid, cut_off = 0, list[int](), False
    for number, line in enumerate(lines, start=1):
        if not line.strip(b" \r\t\0"):  # a file system may fill the end of a file with zeros in a crash
            continue
        try:
            answer = ReviewAnswer.checked(json.loads(line.strip(b"\0")))
        except (ValueError, RecursionError) as error:
            invalid.append(number)
            cut_off = isinstance(error, json.JSONDecodeError) and number == len(lines) and line.startswith(b"{")
            continue
        valid += 1
        if answer.verdict:
            answers[answer.item] = answer
        else:
            answers.pop(answer.item, None)
    if invalid and not valid and not (cut_off and len(invalid) == 1):  # a crash may cut off the very first answer
        raise TableError(f"{path} cannot be read as answers: line {invalid[0]} is not a review answer")
    if invalid:
        logger.warning(
            "%s: skipped %d lines that are not review answers (first: line %d)", path, len(invalid), invalid[0]
        )
    return answers


def reviewed_clips(items: TableOrPath, answers: dict[str, ReviewAnswer]) -> pd.DataFrame:
    """Create the clip table of a review: confirmed stretches with their label, rejected stretches with a blank label.

    Items without an answer, or answered "unsure", are skipped, as are stretches with nothing in them. Columns
    ``predicted`` is the label that was reviewed, ``answer`` the verdict.

    Parameters
    ----------
    items : pd.DataFrame | str | Path
        Items of `review_items`.
    answers : dict[str, ReviewAnswer]
        Answers of a review.

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
    items = as_clip_table(items, "items")
    require_columns(items, ("kind", "score"), "items")
    rows: list[dict[Any, Any]] = []
    for item, key in zip(items.to_dict("records"), item_keys(items), strict=True):
        answer = answers.get(key)
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
