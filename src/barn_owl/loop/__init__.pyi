from .answering import (
    Answer as Answer,
    add_answer as add_answer,
    case_key as case_key,
    case_keys as case_keys,
    read_reviews as read_reviews,
    reviewed_clips as reviewed_clips,
)
from .cases import (
    recordings_at as recordings_at,
    review_cases as review_cases,
)
from .estimating import (
    Estimate as Estimate,
    estimate_from as estimate_from,
    estimate_quality as estimate_quality,
)
from .finding import find_like as find_like
from .harvesting import (
    Harvest as Harvest,
    harvest as harvest,
)
from .proposing import propose as propose
