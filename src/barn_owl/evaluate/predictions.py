"""What a model says about the clips of a table."""

from collections.abc import Callable

import numpy as np
import pandas as pd
from threadpoolctl import threadpool_limits

from barn_owl.classify import Model, load_frames
from barn_owl.classify.dataset import ClipFrames
from barn_owl.clips import join_labels

LIKELY = 0.5
"""Score above which a label that may stand beside others is predicted."""


def predict(
    model: Model, clips: pd.DataFrame, *, workers: int = 2, progress: Callable[[int, int], None] | None = None
) -> tuple[pd.DataFrame, dict[int, str]]:
    """Score every clip of a table.

    Returns the table with ``predicted``, its ``score`` and a column ``score:LABEL`` for each label of the
    model, without the clips that cannot be used; and the reason for each of those, by row number.
    """
    frames, kept, skipped = load_frames(clips, model.front_end, model.clips, workers=workers, progress=progress)
    return with_predictions(model, kept, frames), skipped


def with_predictions(model: Model, clips: pd.DataFrame, frames: ClipFrames) -> pd.DataFrame:
    """Add what `model` says to the rows of `clips`, whose frames are given."""
    extras = model.extra_columns.rows(clips)
    # The matrices are small: a second thread inside a product costs more than it brings.
    with threadpool_limits(limits=1, user_api="blas"):
        scores = np.stack([model.score_frames(frames[clip], extras[clip]) for clip in range(len(frames))])
    best = scores.argmax(axis=1)
    predicted = [model.labels[label] for label in best]
    if model.overlapping:
        predicted = [join_labels([model.labels[n] for n in np.flatnonzero(row > LIKELY)]) for row in scores]
    answers = pd.DataFrame(
        {
            "predicted": predicted,
            "score": scores[np.arange(len(best)), best].astype(np.float64).clip(0, 1),
            **{f"score:{label}": scores[:, number] for number, label in enumerate(model.labels)},
        }
    )
    return clips.drop(columns=[name for name in answers if name in clips]).reset_index(drop=True).join(answers)
