"""The page of a search."""

from pathlib import Path

from barn_owl.device import SearchResult
from barn_owl.show.device import search_figure
from barn_owl.show.page import drawing, rows, write_page

NAMES = {
    "score": "score", "clips": "clips", "event_f1": "event F1", "f1": "F1 on mixtures", "recall": "recall",
    "loss": "loss", "seconds": "seconds",
    "multiply_adds": "multiply-adds a second", "flash_kb": "flash, kB", "ram_kb": "RAM, kB",
    "latency_ms": "latency, ms", "load": "share of time", "step": "step",
}  # fmt: skip
"""Columns of scores and costs, with headings."""


def write_search_page(found: SearchResult, path: str | Path, *, force: bool = False) -> None:
    """Write the page of a search: trade-offs, and sortable tables of all candidates.

    Parameters
    ----------
    found : SearchResult
        Result of `barn_owl.device.search`.
    path : str | Path
        The page.
    force : bool
        Whether an existing file is overwritten.

    Raises
    ------
    OutputError
        If the output cannot be written.

    Examples
    --------
    >>> table = pd.DataFrame({"candidate": [1, 2], "step": 3, "score": [0.7, 0.8], "flash_kb": [50.0, 90.0]})
    >>> table = table.assign(latency_ms=[600, 700], classifier="cnn")
    >>> device = barn_owl.device.read_device("core-256k")
    >>> found = barn_owl.device.SearchResult(table=table, plan=barn_owl.Plan(), device=device)
    >>> barn_owl.show.write_search_page(found, "search.html")
    """
    table = found.table
    first = [("candidate", "candidate")]
    best = table.iloc[0]
    write_page(
        path,
        "search.html",
        force=force,
        title=f"{len(table)} candidates that fit {found.device.name}",
        words=f"Best: candidate {best['candidate']}, score {best['score']:.2f} on clips it had not heard: the mean "
        "of balanced accuracy (clips) and of event F1 in a rehearsal.",
        figure=drawing(search_figure(found)),
        candidates=rows(table),
        score_columns=first + [(name, heading) for name, heading in NAMES.items() if name in table],
        label_columns=first + [(name, name.replace(":", " of ")) for name in table if ":" in name],
        drawn_columns=first + [(name, name) for name in table if name == "classifier" or "." in name],
        data={"sounds": {}, "labels": [], "clips": [], "use": ""},
    )
