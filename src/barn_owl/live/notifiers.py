"""Notifications of events: run a command or post to a URL, without delaying the listener."""

import json
import queue
import shlex
import shutil
import string
import subprocess
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable

from barn_owl.errors import PlanError
from barn_owl.live.listener import LiveEvent
from barn_owl.wording import nearest_to

FIELDS = ("label", "start_s", "end_s", "score", "begins")
"""What may stand in braces in a command."""
WAITING = 64
"""Maximum number of pending notifications; further ones are dropped and counted."""
LONGEST_S = 30.0
"""Time after which a command is stopped, and an address that does not answer given up."""
TRIES, AGAIN_S = 3, 1.0
"""How often an address is tried, and the pause between, twice as long each time."""
CLOSING_S = 5.0
"""Time that what waits is given at the end."""


class Notifier:
    """Handles events in a thread of its own, one after the other, in order.

    Parameters
    ----------
    work : Callable[[LiveEvent], None]
        What is done; it raises OSError with the reason when it fails.
    interval_s : float
        Time where no other event of the same label is reported of.

    Examples
    --------
    >>> blocks = barn_owl.audio.stream_audio("night.wav")
    >>> microphone = barn_owl.audio.SimulatedMicrophone(blocks, 16000, speed=float("inf"))
    >>> listener = barn_owl.Listener(barn_owl.load_model("first"), microphone)
    >>> labels = []
    >>> notices = barn_owl.live.Notifier(lambda event: labels.append(event.label))
    >>> for event in listener.events():
    ...     notices.give(event)
    >>> notices.close()
    >>> len(labels) == notices.done
    True
    """

    def __init__(self, work: Callable[[LiveEvent], None], *, interval_s: float = 0.0) -> None:
        self._work, self._interval_s = work, interval_s
        self._last: dict[str, float] = {}
        self._waiting: queue.Queue[LiveEvent | None] = queue.Queue(WAITING)
        self._warnings: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._last_warning = ""
        self.done = self.failed = self.left_out = 0
        self._thread = threading.Thread(target=self._go, daemon=True)
        self._thread.start()

    def give(self, event: LiveEvent) -> None:
        """Take an event; return at once."""
        if event.start_s - self._last.get(event.label, -self._interval_s) < self._interval_s:
            return
        try:
            self._waiting.put_nowait(event)
        except queue.Full:
            self.left_out += 1
            return
        self._last[event.label] = event.start_s

    def warnings(self) -> list[str]:
        """What went wrong since this was requested last, each reason once in a row."""
        return [self._warnings.get() for _ in range(self._warnings.qsize())]

    def close(self, wait_s: float = CLOSING_S) -> None:
        """Finish pending notifications within this many seconds and drop the others."""
        end = time.monotonic() + wait_s
        while self._thread.is_alive():
            try:
                self._waiting.put(None, timeout=0.05)
                break
            except queue.Full:
                if time.monotonic() > end:
                    break
        self._thread.join(max(0.0, end - time.monotonic()))
        if self._thread.is_alive():
            self.left_out += self._waiting.qsize()

    def _go(self) -> None:
        while (event := self._waiting.get()) is not None:
            try:
                self._work(event)
                self.done += 1
                self._last_warning = ""
            except OSError as error:
                self.failed += 1
                if str(error) != self._last_warning:
                    self._last_warning = str(error)
                    self._warnings.put(self._last_warning)


def command_notifier(command: str, *, interval_s: float = 0.0, max_duration_s: float = LONGEST_S) -> Notifier:
    """Run a command for each event, such as ``notify {label} {start_s} {score}``; see `FIELDS`.

    It is split into arguments as a shell would, but no shell runs: a label is always a single argument, or
    part of one. A command that takes longer than `max_duration_s` is stopped.

    Raises
    ------
    PlanError
        If it cannot be found or names something that an event does not have.

    Examples
    --------
    >>> barn_owl.live.command_notifier("true {label}").close()
    """
    try:
        words = shlex.split(command)
    except ValueError as error:
        raise PlanError(f"the command {command!r} cannot be split into arguments: {error}") from error
    if not words or shutil.which(words[0]) is None:
        raise PlanError(f"the command {words[0] if words else command!r} cannot be found")
    for word in words:
        for name in _fields(word):
            if name not in FIELDS:
                raise PlanError(
                    f"the command {command!r}: {{{name}}} {nearest_to(name, FIELDS, else_say='there are ')}"
                )

    def run(event: LiveEvent) -> None:
        record = {name: str(value) for name, value in event.record().items()}
        arguments = [word.format_map(record) for word in words]
        try:
            subprocess.run(  # noqa: S603 - the user's own command, without a shell
                arguments, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, timeout=max_duration_s, check=True
            )
        except subprocess.TimeoutExpired as error:
            raise OSError(f"{words[0]} took longer than {max_duration_s:g} s and was stopped") from error
        except subprocess.CalledProcessError as error:
            raise OSError(f"{words[0]} ended with {error.returncode}") from error
        except OSError as error:
            raise OSError(f"{words[0]} cannot be run: {error.strerror or error}") from error

    return Notifier(run, interval_s=interval_s)


def _fields(word: str) -> list[str]:
    try:
        parts = list(string.Formatter().parse(word))
    except ValueError as error:
        raise PlanError(f"the command cannot be filled in: {word!r}: {error}") from error
    for _, name, form, conversion in parts:
        if name is not None and (form or conversion):
            raise PlanError(f"the command cannot be filled in: {word!r}: say {{{name}}} alone")
    return [name for _, name, _, _ in parts if name is not None]


def http_notifier(address: str, *, interval_s: float = 0.0, max_duration_s: float = LONGEST_S) -> Notifier:
    """Send each event as JSON by HTTP POST; retries, then reports the failure.

    Raises
    ------
    PlanError
        If the address is not http:// or https://.

    Examples
    --------
    >>> barn_owl.live.http_notifier("http://127.0.0.1:9/owl").close()
    """
    parts = urllib.parse.urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise PlanError(f"{address!r} is no address to post to; it begins with http:// or https://")

    def post(event: LiveEvent) -> None:
        body = json.dumps(event.record(), ensure_ascii=False).encode()
        request = urllib.request.Request(  # noqa: S310 - the scheme is checked above
            address, data=body, headers={"Content-Type": "application/json"}, method="POST"
        )
        for attempt in range(TRIES):
            try:
                with urllib.request.urlopen(request, timeout=max_duration_s):  # noqa: S310
                    return
            except urllib.error.HTTPError as error:
                failure = f"{error.code} {error.reason}"
                if error.code < 500:
                    break
            except (urllib.error.URLError, TimeoutError, OSError) as error:
                failure = str(getattr(error, "reason", error))
            if attempt + 1 < TRIES:
                time.sleep(AGAIN_S * 2**attempt)
        raise OSError(f"{address} was not told: {failure}")

    return Notifier(post, interval_s=interval_s)
