from .excerpt import Excerpt as Excerpt, excerpts as excerpts
from .facts import FileFacts as FileFacts, facts_table as facts_table, file_facts as file_facts
from .loudness import integrated_loudness as integrated_loudness
from .microphone import RawPipe as RawPipe, SimulatedMicrophone as SimulatedMicrophone, SoundCard as SoundCard
from .prefetch import prefetch as prefetch
from .raw import stream_raw as stream_raw
from .reading import (
    AudioInfo as AudioInfo,
    Channel as Channel,
    audio_info as audio_info,
    read_audio as read_audio,
    stream_audio as stream_audio,
)
from .remote import AUDIO_ENDINGS as AUDIO_ENDINGS, sound_files_below as sound_files_below
from .resampling import resample as resample
from .silence import (
    Gate as Gate,
    find_activity as find_activity,
    remove_silence as remove_silence,
    set_level as set_level,
)
from .sources import Break as Break, Source as Source, incoming as incoming
from .stamps import broadcast_start as broadcast_start
from .writing import write_audio as write_audio
