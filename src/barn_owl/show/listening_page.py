"""A page to listen to classified clips and to correct their labels."""

from pathlib import Path
from typing import Any

from barn_owl.clips.table import TableOrPath, as_clip_table
from barn_owl.evaluate import NONE, UNDECIDED
from barn_owl.files import real_path
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.show.page import Shelf, rows, write_page
from barn_owl.show.report import BUDGET, best_scores, clip_line, clip_name

UNSURE = "The model has no thresholds: each clip gets its best label, however unsure."
SHOWN = 40
"""Clips per label on the page: the least certain."""


def write_listening_page(
    model: ModelLike,
    predictions: TableOrPath,
    path: str | Path,
    *,
    title: str = "Clips to listen to",
    budget: int = BUDGET,
    force: bool = False,
) -> None:
    """Write a page with the clips of a table by predicted label, least certain first.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either; its front end draws the pictures.
    predictions : pd.DataFrame
        Result of `barn_owl.predict`; ``predicted`` may be "(undecided)", or "(none)" for rejected clips, with the
        reason in the column ``reason``.
    path : str | Path
        The page.
    title : str
        Heading of the page.
    budget : int
        Bytes of sounds and pictures in the page, at most.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> table, _ = barn_owl.predict(model, barn_owl.read_clip_table("clips.csv"))
    >>> barn_owl.show.write_listening_page(model, table, "listening.html")
    """
    model = as_model(model)
    predictions = as_clip_table(predictions, "predictions")
    shelf, folder = Shelf(model.front_end, budget), real_path(path).parent
    counts = predictions.groupby("predicted").agg(clips=("score", "size"), score=("score", "mean"))
    order = sorted(counts.index, key=lambda label: (label != UNDECIDED, label != NONE, label))
    listed: list[dict[str, Any]] = []
    parts = []
    for label in order:
        own = predictions[predictions["predicted"] == label].sort_values("score", kind="stable")
        shown = []
        for _, row in own.head(SHOWN).iterrows():
            line = clip_line(len(listed), row, folder) | {"label": str(row.get("label") or "")}
            line["sound"] = shelf.sound(row)
            listed.append(line)
            more = {"best": best_scores(row, model.labels), "picture": shelf.picture(row), "name": clip_name(row),
                    "reason": row.get("reason", "")}  # fmt: skip
            shown.append(line | more)
        title_of = {UNDECIDED: "undecided between labels", NONE: "none of the labels", "": "no label"}
        parts.append({"label": title_of.get(label, label), "total": len(own), "clips": shown})
    undecided, none = (int((predictions["predicted"] == what).sum()) for what in (UNDECIDED, NONE))
    write_page(
        path,
        "listen.html",
        force=force,
        title=title,
        summary=f"{len(predictions)} clips, {undecided} of them undecided, {none} of no label.",
        warnings=[] if model.thresholds else [UNSURE],
        counts=rows(counts),
        parts=parts,
        data={
            "sounds": shelf.sounds, "labels": model.labels, "clips": listed,
            "use": "Its column correct_label holds what you chose.",
        },
    )  # fmt: skip
