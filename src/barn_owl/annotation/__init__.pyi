from .active_learning import propose as propose
from .estimating import Estimate as Estimate, estimate_from as estimate_from, estimate_quality as estimate_quality
from .harvesting import Harvest as Harvest, harvest as harvest
from .items import recordings_at as recordings_at, review_items as review_items
from .marks import Mark as Mark, MarkFile as MarkFile
from .reviews import (
    ReviewAnswer as ReviewAnswer,
    add_answer as add_answer,
    item_key as item_key,
    item_keys as item_keys,
    read_reviews as read_reviews,
    reviewed_clips as reviewed_clips,
)
from .similar_sounds import find_similar as find_similar
