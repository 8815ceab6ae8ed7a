"""Notifications of events, delivered in a thread so that the listener never waits."""

import os
import queue
import shlex
import shutil
import signal
import string
import subprocess
import threading
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from barn_owl.errors import PlanError
from barn_owl.live.events import LiveEvent
from barn_owl.live.undelivered import UndeliveredEvents
from barn_owl.live.webhook import MAX_DELIVERY_S, Webhook
from barn_owl.wording import nearest_to

FIELDS = ("label", "start_s", "end_s", "score", "begins")
"""Names that may stand in braces in a command."""
MAX_PENDING = 64
"""Largest number of pending notifications; further ones are dropped and counted."""
CLOSING_S = 5.0
"""Time for pending notifications when the listener ends."""


class Notifier:
    """Delivers events in order in a background thread.

    Every event is counted as `sent`, `failed` or `dropped`. No error of `deliver` ends the thread.

    Parameters
    ----------
    deliver : Callable[[LiveEvent], None]
        Delivers one event; an exception counts as a failure, its text is the reason.
    interval_s : float
        Events of a label that begin within this time after the last notified one are not notified.
    undelivered : str | Path | None
        JSON Lines file for failed and dropped events. Events in it are delivered at the start, and again after each
        success that follows a failure.
    release : Callable[[], None] | None
        Ends a delivery that is under way and frees what deliveries share; called by `close`.

    Raises
    ------
    OutputError
        If `undelivered` cannot be written, or another notifier uses it.
    TableError
        If `undelivered` exists and cannot be read.

    Examples
    --------
    >>> blocks = barn_owl.audio.stream_audio("night.wav")
    >>> microphone = barn_owl.audio.SimulatedMicrophone(blocks, 16000, speed=float("inf"))
    >>> listener = barn_owl.Listener(barn_owl.load_model("first"), microphone)
    >>> labels = []
    >>> notifier = barn_owl.live.Notifier(lambda event: labels.append(event.label))
    >>> for event in listener.events():
    ...     notifier.notify(event)
    >>> notifier.close()
    >>> labels, notifier.sent
    (['hum', 'tick', 'hiss', 'hum'], 4)
    """

    def __init__(
        self,
        deliver: Callable[[LiveEvent], None],
        *,
        interval_s: float = 0.0,
        undelivered: str | Path | None = None,
        release: Callable[[], None] | None = None,
    ) -> None:
        self._deliver, self._interval_s, self._release = deliver, interval_s, release
        self._backlog = None if undelivered is None else UndeliveredEvents(undelivered)
        self._last_s: dict[str, float] = {}
        self._pending: deque[LiveEvent] = deque()
        self._changed = threading.Condition()  # guards what is pending, in flight, and being closed
        self._counting = threading.Lock()
        self._in_flight: LiveEvent | None = None
        self._closing = self._closed = False
        self._warnings: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._last_warning = ""
        self.sent = self.failed = self.dropped = 0
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    @property
    def undelivered(self) -> int:
        """Number of events in the file of undelivered events."""
        return 0 if self._backlog is None else len(self._backlog)

    def notify(self, event: LiveEvent) -> None:
        """Queue an event and return at once; a full queue drops it.

        Parameters
        ----------
        event : LiveEvent
            Event.
        """
        if event.start_s - self._last_s.get(event.label, -self._interval_s) < self._interval_s:
            return
        with self._changed:
            full = len(self._pending) >= MAX_PENDING
            if not full:
                self._pending.append(event)
                self._changed.notify()
        if full:
            self._drop(event)
        else:
            self._last_s[event.label] = event.start_s

    def warnings(self) -> list[str]:
        """Reasons of failures since the last call, without immediate repeats."""
        return [self._warnings.get() for _ in range(self._warnings.qsize())]

    def close(self, wait_s: float = CLOSING_S) -> None:
        """Deliver pending events within this many seconds, interrupt the current delivery and drop the rest.

        Parameters
        ----------
        wait_s : float
            Longest wait for events that are being sent, in seconds.
        """
        with self._changed:
            self._closing = True
            self._changed.notify()
        self._thread.join(wait_s)
        with self._counting, self._changed:  # an event whose delivery ended is counted first
            self._closed = True
            interrupted, self._in_flight = self._in_flight, None
            pending, self._pending = self._pending, deque()
        if interrupted is not None:
            self._fail(interrupted, "the listener ended before the notification was delivered")
        if self._release:
            self._release()
        for event in pending:
            self._drop(event)
        if self._backlog is not None:
            self._backlog.close()

    def _take(self) -> LiveEvent | None:
        """Wait for the next event, which is then in flight; None at the end."""
        with self._changed:
            self._changed.wait_for(lambda: self._pending or self._closing)
            self._in_flight = self._pending.popleft() if self._pending else None
            return self._in_flight

    def _run(self) -> None:
        self._deliver_backlog()
        while (event := self._take()) is not None:
            reason = self._reason_of_failure(event)
            with self._counting:
                if self._in_flight is None:  # closed meanwhile, and counted there
                    return
                self._in_flight = None
                if reason is not None:
                    self._fail(event, reason)
                    continue
                self.sent += 1
                recovered, self._last_warning = bool(self._last_warning), ""
            if recovered:
                self._deliver_backlog()

    def _reason_of_failure(self, event: LiveEvent) -> str | None:
        """Deliver an event; return the reason if that fails, None otherwise."""
        try:
            self._deliver(event)
        except Exception as error:  # the thread must survive any fault of a receiver
            return str(error) or type(error).__name__
        return None

    def _deliver_backlog(self) -> None:
        while self._backlog is not None and not self._closed and (event := self._backlog.first()) is not None:
            reason = self._reason_of_failure(event)
            if reason is not None:
                self._warn(reason)
                return
            with self._counting:
                self.sent += 1
                if self._closed:  # the file may belong to another process; the event is delivered again
                    return
                try:
                    self._backlog.remove_first()
                except OSError as error:  # removed from memory all the same
                    self._warn(str(error))

    def _fail(self, event: LiveEvent, reason: str) -> None:
        self.failed += 1
        self._warn(reason)
        self._keep(event)

    def _drop(self, event: LiveEvent) -> None:
        self.dropped += 1
        self._keep(event)

    def _keep(self, event: LiveEvent) -> None:
        if self._backlog is not None:
            try:
                self._backlog.add(event)
            except OSError as error:
                self._warn(str(error))

    def _warn(self, reason: str) -> None:
        if reason != self._last_warning:
            self._last_warning = reason
            self._warnings.put(reason)


def command_notifier(command: str, *, interval_s: float = 0.0, max_duration_s: float = MAX_DELIVERY_S) -> Notifier:
    """Run a command for each event, such as ``notify {label} {start_s} {score}``; see `FIELDS`.

    The command is split into arguments as a shell would, but no shell runs: a label is always a single argument, or
    part of an argument.

    Parameters
    ----------
    command : str
        Program and arguments.
    interval_s : float
        See `Notifier`.
    max_duration_s : float
        Time limit in seconds, after which the command and all processes that it started are ended.

    Raises
    ------
    PlanError
        If the program cannot be found, or a field in braces does not exist.

    Examples
    --------
    >>> barn_owl.live.command_notifier("true {label}").close()
    """
    runner = _CommandRunner(command, max_duration_s)
    return Notifier(runner, interval_s=interval_s, release=runner.end)


class _CommandRunner:
    """Runs a command in a process group, so that its child processes end with it."""

    def __init__(self, command: str, max_duration_s: float) -> None:
        try:
            self._words = shlex.split(command)
        except ValueError as error:
            raise PlanError(f"the command {command!r} cannot be split into arguments: {error}") from error
        program = self._words[0] if self._words else command
        if shutil.which(program) is None:
            raise PlanError(f"the command {program!r} cannot be found")
        for name in (name for word in self._words for name in _fields(word)):
            if name not in FIELDS:
                raise PlanError(
                    f"the command {command!r}: {{{name}}} {nearest_to(name, FIELDS, else_say='there are ')}"
                )
        self._program, self._max_duration_s = program, max_duration_s
        self._running: subprocess.Popen[bytes] | None = None

    def __call__(self, event: LiveEvent) -> None:
        record = {name: str(value) for name, value in event.record().items()}
        arguments = [word.format_map(record) for word in self._words]
        try:
            self._running = subprocess.Popen(  # noqa: S603 - the user's command, without a shell
                arguments, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, start_new_session=True
            )
            code = self._running.wait(self._max_duration_s)
        except subprocess.TimeoutExpired as error:
            raise OSError(f"{self._program} took longer than {self._max_duration_s:g} s and was ended") from error
        except OSError as error:
            raise OSError(f"{self._program} cannot be run: {error.strerror or error}") from error
        finally:
            self.end()
        if code:
            raise OSError(f"{self._program} ended with exit code {code}")

    def end(self) -> None:
        """End the running command and its child processes."""
        process, self._running = self._running, None
        if process is None or process.poll() is not None:
            return
        if hasattr(os, "killpg"):
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
        else:
            process.kill()
        process.wait()


def _fields(word: str) -> list[str]:
    try:
        parts = list(string.Formatter().parse(word))
    except ValueError as error:
        raise PlanError(f"the command cannot be filled in: {word!r}: {error}") from error
    for _, name, form, conversion in parts:
        if name is not None and (form or conversion):
            raise PlanError(f"the command cannot be filled in: {word!r}: say {{{name}}} alone")
    return [name for _, name, _, _ in parts if name is not None]


def http_notifier(
    address: str,
    *,
    interval_s: float = 0.0,
    max_duration_s: float = MAX_DELIVERY_S,
    undelivered: str | Path | None = None,
) -> Notifier:
    """Send each event as JSON by HTTP POST; see `Webhook` for retries and redirects.

    Parameters
    ----------
    address : str
        ``http://`` or ``https://``, in ASCII.
    interval_s : float
        See `Notifier`.
    max_duration_s : float
        Time limit of a delivery in seconds, with all its retries.
    undelivered : str | Path | None
        See `Notifier`.

    Raises
    ------
    PlanError
        If the address is invalid.
    OutputError, TableError
        See `Notifier`.

    Examples
    --------
    >>> barn_owl.live.http_notifier("http://127.0.0.1:9/owl").close()
    """
    webhook = Webhook(address, max_duration_s=max_duration_s)
    return Notifier(webhook, interval_s=interval_s, undelivered=undelivered, release=webhook.close)
