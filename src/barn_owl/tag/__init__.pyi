from .adjusting import Adjusted as Adjusted, adjust as adjust
from .decoding import EventDecoder as EventDecoder
from .event_classifier import Event as Event
from .score_trace import (
    ScoreTrace as ScoreTrace,
    compute_trace as compute_trace,
    read_trace as read_trace,
    tag_trace as tag_trace,
)
from .scoring import ScoreBlock as ScoreBlock, ScoreStream as ScoreStream, score_recording as score_recording
from .tagging import Tagger as Tagger, tag_recording as tag_recording, tag_samples as tag_samples
