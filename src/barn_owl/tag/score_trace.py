"""The score trace of a recording: save it, load it, decode it again."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
from threadpoolctl import threadpool_limits

from barn_owl.arrays import read_npz
from barn_owl.audio import audio_info
from barn_owl.errors import AudioError, TableError
from barn_owl.files import atomic_write
from barn_owl.model import DecodingSettings, Model
from barn_owl.model.loading import ModelLike, as_model
from barn_owl.model.settings import DecodingLike, as_decoding
from barn_owl.tables import write_parquet
from barn_owl.tag.decoding import EventDecoder, decided
from barn_owl.tag.event_classifier import Event
from barn_owl.tag.scoring import ScoreBlock, ScoreStream, score_recording
from barn_owl.tag.tagging import event_table
from barn_owl.tag.tracks import Timing

KINDS = {"activity": "score", "onsets": "onset", "label_logits": "name"}
"""Arrays of a trace, with the prefix of their columns in a table (``score:LABEL``, or ``score`` of any label)."""
STORED = {"activity": "sounds", "onsets": "begins", "label_logits": "naming"}
"""Names of the arrays in files."""
WHOLE = ("unknown", "attention")
"""Columns of ``label_logits`` after the labels."""


@dataclass(frozen=True, kw_only=True, eq=False)
class ScoreTrace:
    """Scores over a whole recording; for the arrays see `ScoreBlock`.

    Attributes
    ----------
    file : str
        Recording.
    duration_s : float
        Length of the recording in seconds.
    labels : list[str]
        In the order of the columns.
    step_s : float
        Time between rows.
    first_s : float
        Time that the first row describes.
    activity : np.ndarray
        As in `ScoreBlock`, for the whole recording.
    onsets : np.ndarray
        As in `ScoreBlock`, for the whole recording.
    label_logits : np.ndarray
        As in `ScoreBlock`, for the whole recording.

    Examples
    --------
    >>> trace = barn_owl.tag.compute_trace(barn_owl.load_model("first"), "night.wav")
    >>> trace.label_logits.shape, trace.labels
    ((219, 6), ['hiss', 'hum', 'still', 'tick'])
    """

    file: str
    duration_s: float
    labels: list[str]
    step_s: float
    first_s: float
    activity: np.ndarray
    onsets: np.ndarray
    label_logits: np.ndarray

    @property
    def times_s(self) -> np.ndarray:
        """Time of each row in the recording, ``(steps,)``."""
        return self.first_s + np.arange(len(self.activity)) * self.step_s

    def between(self, start_s: float, end_s: float) -> "ScoreTrace":
        """Return the trace of a stretch, as if it were a recording.

        Parameters
        ----------
        start_s : float
            Start and end in seconds.
        end_s : float
            Start and end in seconds.
        """
        rows = slice(*np.searchsorted(self.times_s, [start_s, end_s]))
        first_s = self.first_s + rows.start * self.step_s - start_s
        parts = {name: getattr(self, name)[rows] for name in KINDS}
        return replace(self, duration_s=min(end_s, self.duration_s) - start_s, first_s=first_s, **parts)

    def table(self) -> pd.DataFrame:
        """Table with a row per step: ``time_s``, ``score`` and ``onset`` or, of a model with a track per label,
        ``score:LABEL`` and ``onset:LABEL``; ``name:LABEL`` for each label, ``unknown`` and ``attention``."""
        names = _columns(self.labels, self.activity.shape[1])
        columns = {
            name: getattr(self, kind)[:, number] for kind, own in names.items() for number, name in enumerate(own)
        }
        return pd.DataFrame({"time_s": self.times_s, **columns})

    def save(self, path: str | Path, *, force: bool = False) -> None:
        """Write the trace as NPZ, or by its ending as Parquet; nothing is lost in either.

        Raises OutputError if the file exists and `force` is false, or cannot be written.

        Parameters
        ----------
        path : str | Path
            File: .npz or .parquet.
        force : bool
            Whether existing files are overwritten.
        """
        facts = {
            "recording": self.file, "duration_s": self.duration_s, "step_s": self.step_s, "first_s": self.first_s
        }  # fmt: skip
        with atomic_write(path, force=force) as beside:
            if Path(path).suffix.lower() == ".parquet":
                write_parquet(self.table().assign(**facts), beside)
            else:
                arrays: dict[str, Any] = {stored: getattr(self, name) for name, stored in STORED.items()}
                arrays |= {"labels": np.array(self.labels), **{name: np.array(fact) for name, fact in facts.items()}}
                with beside.open("wb") as file:
                    np.savez(file, **arrays)


def compute_trace(
    model: ModelLike,
    path: str | Path,
    *,
    read_ahead: bool = True,
    progress: Callable[[float, float], None] | None = None,
) -> ScoreTrace:
    """Score a recording and keep the trace in memory: about 9 MB per hour for seven labels.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    path : str | Path
        Recording.
    read_ahead : bool
        Whether decoding and features run in separate threads.
    progress : Callable[[float, float], None] | None
        Called with the seconds done and in all.

    Raises
    ------
    AudioError
        If the recording cannot be read or is shorter than a frame.

    Examples
    --------
    >>> trace = barn_owl.tag.compute_trace(barn_owl.load_model("first"), "night.wav")
    >>> trace.duration_s, trace.labels
    (14.0, ['hiss', 'hum', 'still', 'tick'])
    """
    model = as_model(model)
    duration_s = audio_info(path).duration_s
    blocks = list(score_recording(model, path, read_ahead=read_ahead, progress=progress))
    if not blocks:
        raise AudioError(f"{path} holds no sound")
    return _whole(model, blocks, str(path), duration_s)


def trace_of_samples(model: Model, samples: np.ndarray, file: str = "") -> ScoreTrace:
    """Score mono samples at the rate of the model's front end and keep the trace; `file` is its file name.

    Raises AudioError when the samples are shorter than a frame.
    """
    stream = ScoreStream(model)
    with threadpool_limits(limits=1, user_api="blas"):
        blocks = stream.push(samples) + stream.finish()
    return _whole(model, blocks, file, len(samples) / model.front_end.rate_hz)


def _whole(model: Model, blocks: list[ScoreBlock], file: str, duration_s: float) -> ScoreTrace:
    parts = {name: np.concatenate([getattr(block, name) for block in blocks]) for name in KINDS}
    return ScoreTrace(
        file=file, duration_s=duration_s, labels=model.labels, step_s=model.step_s,
        first_s=Timing.of(model).first_s, **parts,
    )  # fmt: skip


def save_trace(model: Model, blocks: list[ScoreBlock], recording: str, duration_s: float, path: str | Path) -> None:
    """Write the blocks of a whole recording as its trace."""
    _whole(model, blocks, recording, duration_s).save(path, force=True)


def read_trace(path: str | Path) -> ScoreTrace:
    """Read a trace that `ScoreTrace.save` wrote.

    Parameters
    ----------
    path : str | Path
        File: .npz or .parquet.

    Raises
    ------
    TableError
        If it is not a score trace.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> _ = barn_owl.tag_archive(model, ["night.wav"], score_traces="traces", workers=1)
    >>> barn_owl.tag.read_trace("traces/night.npz").labels
    ['hiss', 'hum', 'still', 'tick']
    """
    path = Path(path)
    try:
        if path.suffix.lower() == ".parquet":
            return _checked(_from_columns(pd.read_parquet(path)))
        kept = read_npz(path)
        return _checked(
            ScoreTrace(
                file=str(kept["recording"]),
                duration_s=float(kept["duration_s"]),
                labels=[str(label) for label in kept["labels"]],
                step_s=float(kept["step_s"]),
                first_s=float(kept["first_s"]),
                **{name: kept[stored] for name, stored in STORED.items()},
            )
        )
    except TableError:
        raise
    except Exception as error:  # a ZIP, and arrays inside it, can be damaged in any way
        raise TableError(f"{path} is not a trace: {error}") from error


def _columns(labels: list[str], tracks: int) -> dict[str, list[str]]:
    """Names of the columns of each array of a trace."""
    found = {
        kind: [f"{name}:{label}" for label in labels] if kind == "label_logits" or tracks == len(labels) else [name]
        for kind, name in KINDS.items()
    }
    found["label_logits"] += WHOLE
    return found


def _checked(trace: ScoreTrace) -> ScoreTrace:
    """Raise ValueError when the parts of a trace do not fit together."""
    steps, labels = len(trace.label_logits), len(trace.labels)
    shapes = [getattr(trace, name).shape for name in KINDS]
    label_logits = (steps, labels + len(WHOLE))
    if shapes not in [[(steps, tracks), (steps, tracks), label_logits] for tracks in (1, labels)]:
        raise ValueError(f"scores of shapes {shapes} for {labels} labels")
    numbers = np.array([trace.duration_s, trace.step_s, trace.first_s])
    if not np.isfinite(numbers).all() or trace.step_s <= 0 or trace.duration_s < 0:
        raise ValueError(f"times {numbers.tolist()} cannot be")
    arrays: dict[str, Any] = {name: np.asarray(getattr(trace, name), dtype=np.float32) for name in KINDS}
    if not all(np.isfinite(array).all() for array in arrays.values()):
        raise ValueError("scores that are no numbers")
    return replace(trace, **arrays)


def _from_columns(table: pd.DataFrame) -> ScoreTrace:
    labels = [name[5:] for name in table if name.startswith("name:")]
    names = _columns(labels, 1 if "score" in table else len(labels))
    arrays = {kind: table[own].to_numpy(dtype=np.float32) for kind, own in names.items()}
    facts = table.iloc[0]
    return ScoreTrace(
        file=str(facts["recording"]), duration_s=float(facts["duration_s"]), labels=labels,
        step_s=float(facts["step_s"]), first_s=float(facts["first_s"]), **arrays,
    )  # fmt: skip


def decide(model: Model, trace: ScoreTrace, decoding: DecodingSettings | None = None) -> list[Event]:
    """Events of a trace, in order of time."""
    decoder = EventDecoder.of(model, decoding, first_s=trace.first_s)
    return list(decided([ScoreBlock(0, trace.activity, trace.onsets, trace.label_logits)], decoder))


def tag_trace(model: ModelLike, trace: ScoreTrace, *, decoding: DecodingLike | None = None) -> pd.DataFrame:
    """Decode a score trace; the events are those of `barn_owl.tag_recording` with the same settings.

    Parameters
    ----------
    model : Model | HasModel | str | Path
        Model, run, or the path of either.
    trace : ScoreTrace
        Score trace.
    decoding : DecodingSettings | Mapping[str, Any] | None
        Decoding settings, or a mapping of the changes to those of the model.

    Raises
    ------
    TableError
        If the trace is not of this model's labels, or of a model of another kind.

    Examples
    --------
    >>> model = barn_owl.load_model("first")
    >>> trace = barn_owl.tag.compute_trace(model, "night.wav")
    >>> barn_owl.tag.tag_trace(model, trace)["label"].tolist()
    ['hum', 'tick', 'hiss', 'hum']
    """
    model = as_model(model)
    decoding = as_decoding(decoding, model.decoding)
    if trace.labels != model.labels:
        raise TableError(f"the trace is of {', '.join(trace.labels)}; the model knows {', '.join(model.labels)}")
    followed = 1 if model.classifies_segments else len(model.labels)
    if trace.activity.shape[1] != followed:
        raise TableError(
            f"the trace follows {trace.activity.shape[1]} scores, the model {followed}: it is of another"
        )
    events = decide(model, trace, decoding)
    return event_table(events, trace.file, trace.duration_s)
