from .adjusting import (
    Adjusted as Adjusted,
    adjust as adjust,
)
from .archive import (
    Archive as Archive,
    tag_archive as tag_archive,
)
from .decision import (
    Decider as Decider,
    Event as Event,
)
from .entries import Recorded as Recorded
from .formats import (
    read_cues as read_cues,
    read_events as read_events,
    write_cues as write_cues,
    write_events as write_events,
)
from .hours import (
    hours_table as hours_table,
    recording_start as recording_start,
    starts_of_table as starts_of_table,
    with_clock as with_clock,
)
from .measuring import (
    Speed as Speed,
    measure_tagging as measure_tagging,
)
from .recorded import (
    Trace as Trace,
    read_trace as read_trace,
    tag_trace as tag_trace,
    whole_trace as whole_trace,
)
from .recordings import find_recordings as find_recordings
from .store import (
    Store as Store,
    open_store as open_store,
    read_store as read_store,
    store_hours as store_hours,
)
from .tagging import (
    Tagger as Tagger,
    tag_recording as tag_recording,
    tag_samples as tag_samples,
)
from .trace import (
    TraceBlock as TraceBlock,
    TraceStream as TraceStream,
    trace_recording as trace_recording,
)
