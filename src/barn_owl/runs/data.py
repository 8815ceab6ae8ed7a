"""The clips of a run: which are used, their splits, labels and frames."""

import logging
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace

import numpy as np
import pandas as pd

from barn_owl.audio import excerpts
from barn_owl.clips import ClipFrames, check_clip_table, join_multilabel, labels_in, load_frames, split_clips
from barn_owl.clips.check import are_whole_recordings
from barn_owl.clips.duplicates import file_copies
from barn_owl.clips.split import indivisible_units
from barn_owl.clips.splits import SPLITS
from barn_owl.errors import PlanError, TableError
from barn_owl.files import temporary_folder
from barn_owl.learn import Examples, Plan
from barn_owl.learn.extras import learn_columns
from barn_owl.learn.sharing import Memo
from barn_owl.model import load_model
from barn_owl.model.exemplars import Exemplar
from barn_owl.model.extras import ExtraColumns
from barn_owl.runs.recordings import Stretches, quiet_frames, read_unlabeled, survey_recordings
from barn_owl.runs.work import Work

logger = logging.getLogger(__name__)


@dataclass(frozen=True, kw_only=True)
class RunData:
    """Clips with a split each, and their frames.

    requested : the rows that were wanted; table : those that can be used, in the order of `frames`; skipped : the
    reason for each skipped clip, by row number of `requested`; behind : background of the plan's recordings;
    unlabeled : stretches of them; exemplars : examples that the model which the plan starts from has of its labels;
    memo : see `Examples`.
    """

    requested: pd.DataFrame
    table: pd.DataFrame
    frames: ClipFrames
    skipped: dict[int, str]
    labels: list[str]
    behind: ClipFrames = field(default_factory=lambda: ClipFrames([]))
    unlabeled: Stretches = field(default_factory=lambda: Stretches([], ClipFrames([])))
    exemplars: list[Exemplar] = field(default_factory=list)
    memo: Memo | None = None

    def with_splits(self, split: Callable[[pd.DataFrame], pd.DataFrame]) -> "RunData":
        """Return the same clips with different splits: `split` fills the column ``split`` of a table."""
        return replace(self, requested=split(self.requested), table=split(self.table))

    def examples(
        self, plan: Plan, extra_columns: ExtraColumns, *, needs_validation: bool = True
    ) -> tuple[Examples, Examples]:
        """Training and validation examples.

        Raises TableError when a split, or a label on the training split, is empty.
        """
        targets = self.targets(multilabel=plan.multilabel)
        extras = extra_columns.rows(self.table)
        exemplars = [one for one in self.exemplars if not one.held_out]
        remembered = self._targets([one.label for one in exemplars], multilabel=plan.multilabel)
        mean_extras = np.zeros((len(exemplars), extras.shape[1]), dtype=extras.dtype)
        splits = []
        for split in ("train", "validation"):
            rows = np.flatnonzero(self.table["split"] == split)
            own = self.table.iloc[rows]
            sources = excerpts(own["file"], own["start_s"], own["end_s"])
            # A quarter of the exemplars is used for validation, to notice forgetting.
            watched = np.arange(len(exemplars)) % 4 == 3
            more = np.flatnonzero(
                watched if split == "validation" else ~watched if needs_validation else watched | True
            )
            if not len(rows) + len(more) and (needs_validation or split == "train"):
                raise TableError(f"no usable clip is on the {split} split")
            kept = [exemplars[number].frames for number in more]
            splits.append(
                Examples(
                    clips=ClipFrames([*self.frames.take(rows).parts, *kept]),
                    targets=np.concatenate([targets[rows], remembered[more]]),
                    extras=np.concatenate([extras[rows], mean_extras[more]]),
                    sources=sources,
                    groups=_groups(own) + [f"remembered {number}" for number in more],
                    multilabel=plan.multilabel,
                    behind=self.behind,
                    unlabeled=self.unlabeled.frames if split == "train" else ClipFrames([]),
                    memo=self.memo,
                )
            )
        missing = [label for number, label in enumerate(self.labels) if not splits[0].targets[:, number].any()]
        if missing:
            raise TableError(
                f"no clip of {', '.join(map(repr, missing))} is on the training split: its groups are all elsewhere; "
                'name more groups, or set split.together = "file"'
            )
        unseen = [label for number, label in enumerate(self.labels) if not splits[1].targets[:, number].any()]
        if unseen and needs_validation:
            logger.warning(
                "no clip of %s is on the validation split: when to stop is judged by the other labels",
                ", ".join(map(repr, unseen)),
            )
        return splits[0], splits[1]

    def targets(self, *, multilabel: bool) -> np.ndarray:
        """1 for each label of a clip, float32 ``(clips, labels)``."""
        return self._targets(self.table["label"], multilabel=multilabel)

    def _targets(self, texts: Iterable[str], *, multilabel: bool) -> np.ndarray:
        rows = [labels_in(text) if multilabel else [text] for text in texts]
        targets = np.zeros((len(rows), len(self.labels)), dtype=np.float32)
        for row, own in enumerate(rows):
            for label in own:
                targets[row, self.labels.index(label)] = 1
        return targets

    def extra_columns(self, plan: Plan) -> ExtraColumns:
        """Content of the plan's extra columns on the training split."""
        return learn_columns(self.table[self.table["split"] == "train"], plan.columns)


def _groups(clips: pd.DataFrame) -> list[str]:
    """Indivisible unit of each clip: its group, or else its file."""
    named = clips["group"].fillna("").astype(str) if "group" in clips else pd.Series("", index=clips.index)
    return [group or f"file {file}" for group, file in zip(named, clips["file"], strict=True)]


def usable_clips(clips: pd.DataFrame, plan: Plan) -> pd.DataFrame:
    """Return the labeled rows; rows of an excerpt are joined if labels may overlap.

    Raises TableError for an excerpt with two labels, PlanError for a label of the plan without clips.
    """
    clips = check_clip_table(clips)
    labeled = clips[clips["label"] != ""].reset_index(drop=True)
    if len(labeled) < len(clips):
        logger.warning("%d of %d rows have no label and are skipped", len(clips) - len(labeled), len(clips))
    if plan.multilabel:
        labeled = join_multilabel(labeled)
    twice = labeled.duplicated(["file", "start_s", "end_s"])
    if twice.any():
        row = labeled[twice].iloc[0]
        raise TableError(
            f"{row['file']} has more than one label for the same excerpt (one is {row['label']!r}); "
            "keep one of the rows, or set multilabel = true in the plan if a clip may carry several"
        )
    labels = label_names(labeled, plan)
    named = {"background": plan.background, "ignored": plan.ignored, "decoding.labels": plan.decoding.labels}
    if len(labels) > 1:  # a table with a single label is refused by the split
        for key, own in named.items():
            check_labels_exist(key, own, labels)
    return labeled


def check_labels_exist(key: str, wanted: Iterable[str], labels: list[str]) -> None:
    """Raise PlanError if no clip has a label that a setting names."""
    for label in wanted:
        if label not in labels:
            raise PlanError(f"{key}: no clip is labeled {label!r}; there are {', '.join(labels)}")


def label_names(clips: pd.DataFrame, plan: Plan) -> list[str]:
    """Labels of a table, and of the examples of the model that a plan starts from, in alphabetical order."""
    texts = [*clips["label"].unique(), *(one.label for one in earlier_exemplars(plan))]
    return sorted({label for text in texts for label in (labels_in(text) if plan.multilabel else [text])})


def earlier_exemplars(plan: Plan) -> list[Exemplar]:
    """Return the exemplars of the model that a plan starts from, without labels that are to be forgotten."""
    if not plan.start.model:
        return []
    forgotten = set(plan.start.forget)
    return [one for one in load_model(plan.start.model).exemplars if forgotten.isdisjoint(labels_in(one.label))]


def with_splits(clips: pd.DataFrame, plan: Plan, *, quietly: bool = False) -> pd.DataFrame:
    """Split clips; files with the same bytes share a split, under any name."""
    known = clips if "copy_of" in clips else clips.assign(copy_of=file_copies(clips))
    # Beside the labels of exemplars, a single new label suffices.
    fewest = 1 if earlier_exemplars(plan) else 2
    known = known.assign(label=_for_sharing(clips, plan))
    units = indivisible_units(known, plan.split)
    if fewest == 1 and units.nunique() < len(SPLITS) and not ("split" in known and (known["split"] != "").any()):
        # Exemplars are on the validation split, so new clips of two groups suffice for training and test.
        return clips.assign(split=units.map(dict(zip(units.value_counts().index, ("train", "test"), strict=False))))
    sided = split_clips(known, plan.split, seed=plan.seed, min_labels=fewest, quietly=quietly)
    return clips.assign(split=sided["split"])


def _for_sharing(clips: pd.DataFrame, plan: Plan) -> pd.Series:
    """Return a label per clip to stratify by: the rarest of several."""
    if not plan.multilabel:
        return clips["label"]
    counts = pd.Series([label for text in clips["label"] for label in labels_in(text)]).value_counts()
    return clips["label"].map(lambda text: min(labels_in(text), key=lambda label: (counts[label], label)))


@contextmanager
def read_clips(clips: pd.DataFrame, plan: Plan, work: Work) -> Iterator[RunData]:
    """Compute the frames of clips, in a temporary cache by default; valid within the block."""
    with temporary_folder() as temporary:
        frames, kept, skipped = load_frames(
            clips, plan.front_end, plan.clips,
            workers=work.workers, cache=work.cache or temporary, progress=work.reading,
        )  # fmt: skip
        _report_whole_recordings(kept, frames, plan)
        yield RunData(
            requested=clips, table=kept, frames=frames, skipped=skipped, labels=label_names(kept, plan),
            behind=_background_of_recordings(plan, work), unlabeled=_unlabeled(plan, work),
            exemplars=earlier_exemplars(plan),
        )  # fmt: skip


def _background_of_recordings(plan: Plan, work: Work) -> ClipFrames:
    """Return quiet of the recordings of the plan, and log its length."""
    if not plan.recordings:
        return ClipFrames([])
    quiet = quiet_frames(plan, survey_recordings(plan.recordings).stretches)
    if quiet.parts:
        seconds = sum(map(len, quiet.parts)) * plan.front_end.hop_s
        work.now(f"using {seconds:.0f} s of quiet from the recordings as background")
    else:
        logger.warning("recordings: none of what was listened to is quiet, so none of it serves as background")
    return quiet


def _unlabeled(plan: Plan, work: Work) -> Stretches:
    """Stretches of the recordings that the plan names, if the classifier can learn from them without labels."""
    if not plan.recordings or not plan.kind.sees_frames or plan.multilabel or not plan.front_end.is_log_mel:
        return Stretches([], ClipFrames([]))
    unlabeled = read_unlabeled(plan.front_end, plan.clips, plan.mixtures.seconds, plan.recordings, [])
    if unlabeled.places:
        minutes = sum(map(len, unlabeled.frames.parts)) * plan.front_end.hop_s / 60
        work.now(f"learning from {minutes:.0f} min of the recordings without labels, too")
    else:
        logger.warning(
            "recordings: none can be read for %g s, so their sounds are not learned from", plan.mixtures.seconds
        )
    return unlabeled


def _report_whole_recordings(clips: pd.DataFrame, frames: ClipFrames, plan: Plan) -> None:
    """Log a warning when labels belong to long files as a whole, which may contain further sounds."""
    lengths = np.array([plan.front_end.samples_for(len(part)) / plan.front_end.rate_hz for part in frames.parts])
    whole = are_whole_recordings(clips, lengths)
    if whole.any():
        logger.warning(
            "%d rows label whole recordings, of up to %.0f s: all that stands out in them is treated as what the "
            "label says. Where it is not, cut the events out, or give start_s and end_s",
            whole.sum(), lengths[whole].max(),
        )  # fmt: skip
