"""Doubts in words: what speaks against a model that is to tag recordings, and what to try next."""

from typing import Any

POOR_F1, WEAK_F1 = 0.3, 0.6
MANY_ALARMS = 200.0
BROKEN_PROMISE = 0.3
"""Balanced accuracy on clips that event F1 may stay below before it is reported."""
NEVER = 0.1
"""Recall below which a label is said to be missed."""
FOOLED = 0.4
"""Share of unknown sounds that raise an event from which on it is said: half of what refusing none brings."""


def rehearsal_caveats(expected: dict[str, Any], validation_accuracy: float | None) -> list[str]:
    """Say what is wrong with what to expect of a model, a sentence each.

    expected : what `Rehearsed.expectation` gives; validation_accuracy : balanced accuracy on the validation clips.
    """
    found, usual = list[str](), expected["at_density"]
    f1, density = usual["event_f1"], f"with {usual['events_per_minute']:g} events a minute"
    if f1 < POOR_F1:
        found.append(
            f"It will hardly find anything in recordings: event F1 {f1:.2f} {density}. More clips, from more "
            "recorders or makers, help most; see barn-owl check, and listen to rehearsal.flac."
        )
    elif f1 < WEAK_F1:
        found.append(
            f"Expect many mistakes in recordings: event F1 {f1:.2f} {density}. Clips of background as label, "
            "more clips of the weakest labels, and barn-owl adjust on a recording with known events help."
        )
    if validation_accuracy is not None and validation_accuracy - f1 > BROKEN_PROMISE:
        found.append(
            f"Clips promise more than recordings keep: {validation_accuracy:.2f} of the clips are named rightly, but "
            f"event F1 is {f1:.2f}. It misses sounds that overlap others, or detects sounds where there are none."
        )
    alarms = usual["false_alarms_per_hour"]
    if alarms > MANY_ALARMS:
        found.append(
            f"{alarms:.0f} false alarms per hour, {density}: raise on (barn-owl tag --threshold), or give clips of what "
            "recordings sound like while nothing happens (barn-owl cut --background, train --background)."
        )
    missed = [label for label, row in expected["labels"].items() if row["true"] and row["recall"] < NEVER]
    if missed:
        found.append(f"Hardly ever found in the rehearsal: {', '.join(missed)}. Listen to its clips, and add others.")
    share = expected["unknown_share"]
    if share is not None and expected["unknown"] >= 5 and share > FOOLED:
        found.append(
            f"{share:.0%} of the sounds that are no label raised an event. Clips of what else is heard, labeled as "
            "background, help."
        )
    return found
