"""Long recordings: from samples to a trace of scores, from the trace to events."""

from barn_owl.tag.decision import Decider
from barn_owl.tag.tagging import Tagger, tag_recording, tag_samples
from barn_owl.tag.trace import TraceBlock, TraceStream, trace_recording

__all__ = [
    "Decider",
    "Tagger",
    "TraceBlock",
    "TraceStream",
    "tag_recording",
    "tag_samples",
    "trace_recording",
]
