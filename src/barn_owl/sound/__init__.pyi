from .augment import (
    SoundSettings as SoundSettings,
    change_sound as change_sound,
)
from .made_up import (
    foreign_sound as foreign_sound,
    made_up_sound as made_up_sound,
)
from .uniform import (
    UniformSettings as UniformSettings,
    make_uniform as make_uniform,
    read_uniform as read_uniform,
)
