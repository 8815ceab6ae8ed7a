"""Reasons for caution about the expected performance on recordings, with remedies."""

from typing import Any

POOR_F1, WEAK_F1 = 0.3, 0.6
MAX_ALARMS_PER_HOUR = 200.0
MAX_REHEARSAL_GAP = 0.3
"""Excess of the balanced accuracy on clips over the event F1 that is worth a warning."""
NEVER = 0.1
"""Recall below which a label counts as missed."""
FOOLED = 0.4
"""Share of unknown sounds raising an event above which a warning is due: half of that without rejection."""


def rehearsal_caveats(expected: dict[str, Any], validation_accuracy: float | None) -> list[str]:
    """Return reasons for caution about a model for recordings, as sentences.

    expected : as from `Rehearsed.expectation`; validation_accuracy : balanced accuracy on the validation clips.
    """
    found, usual = list[str](), expected["at_density"]
    f1, density = usual["event_f1"], f"with {usual['events_per_minute']:g} events per minute"
    if f1 < POOR_F1:
        found.append(
            f"Expect poor results on recordings: event F1 {f1:.2f} {density} in rehearsal. More clips, from more "
            "recorders or makers, help most; check the clips, and listen to rehearsal.flac."
        )
    elif f1 < WEAK_F1:
        found.append(
            f"Expect many mistakes on recordings: event F1 {f1:.2f} {density} in rehearsal. Background clips, more "
            "clips of the weakest labels help; adjust the model on a recording with known events."
        )
    if validation_accuracy is not None and validation_accuracy - f1 > MAX_REHEARSAL_GAP:
        found.append(
            f"Recordings are much harder than clips: balanced accuracy {validation_accuracy:.2f} on validation "
            f"clips, event F1 {f1:.2f} in rehearsal. The model misses overlapping sounds, or detects sounds in "
            "background."
        )
    alarms = usual["false_alarms_per_hour"]
    if alarms > MAX_ALARMS_PER_HOUR:
        found.append(
            f"{alarms:.0f} false alarms per hour {density}: raise the threshold, or add background clips of "
            "your recordings."
        )
    missed = [label for label, row in expected["labels"].items() if row["true"] and row["recall"] < NEVER]
    if missed:
        found.append(
            f"Hardly ever detected in rehearsal: {', '.join(missed)}. Listen to their clips, and add others."
        )
    share = expected["unknown_share"]
    if share is not None and expected["unknown"] >= 5 and share > FOOLED:
        found.append(
            f"{share:.0%} of unknown sounds raised an event in rehearsal. Clips of other sounds, labeled as "
            "background, help."
        )
    return found
