from .listener import Listener as Listener, LiveEvent as LiveEvent
from .notifiers import Notifier as Notifier, command_notifier as command_notifier, http_notifier as http_notifier
