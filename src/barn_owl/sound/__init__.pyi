from .augment import SoundSettings as SoundSettings, change_sound as change_sound
from .synthetic import synthetic_sound as synthetic_sound, unknown_sound as unknown_sound
from .uniform import (
    UniformSettings as UniformSettings,
    preprocess as preprocess,
    read_preprocessed as read_preprocessed,
)
