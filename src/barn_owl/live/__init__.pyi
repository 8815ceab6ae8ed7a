from .events import LiveEvent as LiveEvent
from .listener import Listener as Listener
from .notifiers import Notifier as Notifier, command_notifier as command_notifier, http_notifier as http_notifier
from .webhook import Webhook as Webhook
