from .listener import (
    Heard as Heard,
    Listener as Listener,
)
from .notices import (
    Notices as Notices,
    command_notices as command_notices,
    post_notices as post_notices,
)
