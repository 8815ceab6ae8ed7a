from .adjusting import (
    Adjusted as Adjusted,
    adjust as adjust,
)
from .decision import Decider as Decider
from .naming import Event as Event
from .recorded import (
    Trace as Trace,
    read_trace as read_trace,
    tag_trace as tag_trace,
    whole_trace as whole_trace,
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
