"""The trace of a whole recording: kept, saved, read again, and decided on as often as one likes."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from barn_owl.audio import audio_info
from barn_owl.classify import DecisionSettings, Model
from barn_owl.errors import AudioError, TableError
from barn_owl.files import whole_file
from barn_owl.tag.decision import Decider
from barn_owl.tag.tagging import event_table
from barn_owl.tag.trace import CHUNK, TraceBlock, trace_recording

KINDS = ("windows", "local", "alike")
NAMES = {"windows": "score", "local": "local", "alike": "alike"}


@dataclass(frozen=True, kw_only=True, eq=False)
class Trace:
    """Scores over a whole recording; for the arrays see `TraceBlock`.

    file, duration_s : of the recording; labels : in the order of the columns; step_s : time between rows, which is
    `step_frames` frames.
    """

    file: str
    duration_s: float
    labels: list[str]
    step_s: float
    step_frames: int
    windows: np.ndarray
    local: np.ndarray
    rise: np.ndarray
    alike: np.ndarray

    def blocks(self) -> Iterator[TraceBlock]:
        """Give the trace in the pieces that a `Decider` takes."""
        frames = self.step_frames
        for first in range(0, len(self.windows), CHUNK):
            last = first + CHUNK >= len(self.windows)
            part = slice(first, None if last else first + CHUNK)
            rise = self.rise[first * frames : None if last else (first + CHUNK) * frames]
            yield TraceBlock(first, self.windows[part], self.local[part], rise, self.alike[part])

    def table(self) -> pd.DataFrame:
        """One row a step: ``time_s`` and ``score:LABEL`` of the window that begins there, for plotting."""
        scores = {f"score:{label}": self.windows[:, number] for number, label in enumerate(self.labels)}
        return pd.DataFrame({"time_s": np.arange(len(self.windows)) * self.step_s, **scores})

    def save(self, path: str | Path) -> None:
        """Write the trace as NPZ, or by its ending as Parquet; nothing is lost in either."""
        facts = {
            "recording": self.file,
            "duration_s": self.duration_s,
            "step_s": self.step_s,
            "step_frames": self.step_frames,
        }
        with whole_file(path) as beside:
            if Path(path).suffix.lower() == ".parquet":
                self._columns().assign(**facts).to_parquet(beside, index=False)
            else:
                arrays: dict[str, Any] = {name: getattr(self, name) for name in (*KINDS, "rise")}
                arrays |= {"labels": np.array(self.labels), **{name: np.array(fact) for name, fact in facts.items()}}
                with beside.open("wb") as file:
                    np.savez(file, **arrays)

    def _columns(self) -> pd.DataFrame:
        steps = len(self.local)
        columns: dict[str, np.ndarray] = {}
        for kind in KINDS:
            rows = np.full((steps, len(self.labels)), np.nan, dtype=np.float32)
            own = getattr(self, kind)
            rows[: len(own)] = own
            columns |= {f"{NAMES[kind]}:{label}": rows[:, number] for number, label in enumerate(self.labels)}
        frames = -(-len(self.rise) // max(steps, 1))
        rise = np.full(steps * frames, np.nan, dtype=np.float32)
        rise[: len(self.rise)] = self.rise
        columns |= {f"rise:{number}": column for number, column in enumerate(rise.reshape(steps, frames).T)}
        return pd.DataFrame(columns)


def whole_trace(model: Model, path: str | Path, *, progress: Callable[[float, float], None] | None = None) -> Trace:
    """Score a recording and keep the trace in memory: about 6 MB an hour for seven labels.

    Raises AudioError when it cannot be read or is shorter than one frame.
    """
    duration_s, blocks = audio_info(path).duration_s, []
    for block in trace_recording(model, path):
        blocks.append(block)
        if progress:
            progress(min((block.first + len(block.windows)) * model.step_s, duration_s), duration_s)
    if not blocks:
        raise AudioError(f"{path} holds no sound")
    parts = {name: np.concatenate([getattr(block, name) for block in blocks]) for name in (*KINDS, "rise")}
    return Trace(
        file=str(path), duration_s=duration_s, labels=model.labels, step_s=model.step_s,
        step_frames=model.family.step, **parts,
    )  # fmt: skip


def read_trace(path: str | Path) -> Trace:
    """Read a trace that `Trace.save` wrote. Raises TableError when it is none."""
    path = Path(path)
    try:
        if path.suffix.lower() == ".parquet":
            return _from_columns(pd.read_parquet(path))
        with np.load(path, allow_pickle=False) as kept:
            return Trace(
                file=str(kept["recording"]),
                duration_s=float(kept["duration_s"]),
                labels=[str(label) for label in kept["labels"]],
                step_s=float(kept["step_s"]),
                step_frames=int(kept["step_frames"]),
                **{name: kept[name] for name in (*KINDS, "rise")},
            )
    except (OSError, ValueError, KeyError, EOFError) as error:
        raise TableError(f"{path} is not a trace: {error}") from error


def _from_columns(table: pd.DataFrame) -> Trace:
    labels = [name[6:] for name in table if name.startswith("score:")]
    arrays = {}
    for kind in KINDS:
        rows = table[[f"{NAMES[kind]}:{label}" for label in labels]].to_numpy(dtype=np.float32)
        arrays[kind] = rows[~np.isnan(rows).any(axis=1)]
    rise = table[[name for name in table if name.startswith("rise:")]].to_numpy(dtype=np.float32).ravel()
    facts = table.iloc[0]
    return Trace(
        file=str(facts["recording"]), duration_s=float(facts["duration_s"]), labels=labels,
        step_s=float(facts["step_s"]), step_frames=int(facts["step_frames"]), rise=rise[~np.isnan(rise)], **arrays,
    )  # fmt: skip


def tag_trace(model: Model, trace: Trace, *, decision: DecisionSettings | None = None) -> pd.DataFrame:
    """Decide on a trace; the events are those that `barn_owl.tag_recording` finds with the same settings.

    Raises TableError when the trace is not of this model's labels.
    """
    if trace.labels != model.labels:
        raise TableError(f"the trace is of {', '.join(trace.labels)}; the model knows {', '.join(model.labels)}")
    decider = Decider(model, decision)
    events = [event for block in trace.blocks() for event in decider.push(block)]
    return event_table(events + decider.finish(), trace.file, trace.duration_s)
