"""Long recordings: from samples to a trace of scores, from the trace to events."""

from barn_owl.tag.adjust import Adjusted, adjust
from barn_owl.tag.archive import Archive, find_recordings, tag_archive
from barn_owl.tag.decision import Decider, Event
from barn_owl.tag.formats import read_cues, read_events, write_cues, write_events
from barn_owl.tag.hours import hours_table, recording_start, with_clock
from barn_owl.tag.recorded import Trace, read_trace, tag_trace, whole_trace
from barn_owl.tag.tagging import Tagger, tag_recording, tag_samples
from barn_owl.tag.trace import TraceBlock, TraceStream, trace_recording

__all__ = [
    "Adjusted",
    "Archive",
    "Decider",
    "Event",
    "Tagger",
    "Trace",
    "TraceBlock",
    "TraceStream",
    "adjust",
    "find_recordings",
    "hours_table",
    "read_cues",
    "read_events",
    "read_trace",
    "recording_start",
    "tag_archive",
    "tag_recording",
    "tag_samples",
    "tag_trace",
    "trace_recording",
    "whole_trace",
    "with_clock",
    "write_cues",
    "write_events",
]
