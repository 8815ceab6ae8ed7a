from .listener import (
    Heard as Heard,
    Listener as Listener,
)
from .notifiers import (
    Notifier as Notifier,
    command_notifier as command_notifier,
    http_notifier as http_notifier,
)
