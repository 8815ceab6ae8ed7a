from .entries import StoreEntry as StoreEntry
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
from .recordings import find_recordings as find_recordings
from .store import Store as Store, open_store as open_store, read_store as read_store, store_hours as store_hours
from .tagging import Archive as Archive, tag_archive as tag_archive
from .throughput import Speed as Speed, measure_throughput as measure_throughput
