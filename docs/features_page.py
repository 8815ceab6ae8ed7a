"""Write ``features.md`` from the one list of features; ``make reference`` runs this, and a test compares."""

from pathlib import Path

from barn_owl.features import FrontEnd
from barn_owl.features.catalog import FEATURES

HEAD = """# Reference of all features

Made from the code by `make reference`. Every feature has a row a frame: frame *i* covers samples `i * hop` to
`i * hop + frame`, without padding, so all features of a front end line up and a stream gives the same bits as
the file. `FrontEnd.columns` and `FrontEnd.units` name every column. Powers are relative to a full-scale sine.

| feature | columns | unit | formula | source |
|---|---|---|---|---|
"""
TAIL = """| `loudness` | 1 | LUFS | K-weighted level of the 0.4 s that end with the frame | ITU-R BS.1770-4, EBU Tech 3341 |
| `deltas` | as before it | unit per frame | sum n (x[t+n] - x[t-n]) / (2 sum n²), n = 1 to as many frames as `delta_ms` takes | S. Furui, IEEE Trans. ASSP 34(1), 1986 |
| `second-deltas` | as before it | unit per frame² | the same twice | as deltas |

`shape` stands for centroid, spread, skewness, kurtosis, roll-off, flatness, crest, slope and flux.

The mel scale is `2595 log10(1 + f / 700)` (D. O'Shaughnessy, Speech Communication, 1987, p. 150). Each triangle has
a peak of 1; a bin counts with the mean of the triangle over its width. `floor_db` is added to every power before the
logarithm; `range_db` limits how far below the strongest band of its frame a level can be.

Pooling over the frames of a clip: `mean`, `deviation`, `minimum`, `maximum`, `loud` (mean over the loudest fifth of the
frames), `slope` (least squares, per frame), `change` (mean absolute difference from frame to frame) and
`quantile Q`.
"""


def page() -> str:
    """Return the whole page."""
    front_end = FrontEnd()
    rows = [
        f"| `{name}` | {len(feature.names(front_end))} | {feature.unit} | {feature.formula.replace('|', chr(92) + '|')} "
        f"| {feature.source} |\n"
        for name, feature in FEATURES.items()
    ]
    return HEAD + "".join(rows) + TAIL


if __name__ == "__main__":
    (Path(__file__).parent / "features.md").write_text(page(), encoding="utf-8")
