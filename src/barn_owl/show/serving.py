"""Local servers of pages: secret address, sounds of the named recordings only."""

import json
import logging
import secrets
import sys
from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import asdict
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Event, Lock, Thread
from typing import Any, ClassVar, Self, cast

from barn_owl.annotation import ReviewAnswer, add_answer, estimate_from, item_keys, read_reviews
from barn_owl.annotation.marks import Mark, MarkFile
from barn_owl.errors import BarnOwlError, OutputError, TableError
from barn_owl.files import is_file
from barn_owl.show.annotating import annotation_page, excerpt_sound
from barn_owl.show.reviewing import Review, estimate_rows, review_page
from barn_owl.show.tiles import Scale, Tiles

logger = logging.getLogger(__name__)

HOST = "127.0.0.1"
MAX_ANSWER = 65_536
"""Bytes of an answer."""
MAX_DIGITS = 9
"""Digits of a number in a request."""
WRITING_S = 1.0
"""Shortest time between two writings of a truth table."""
ROUNDING_S = 0.001
"""Times are in whole milliseconds."""
ROUNDS = 300
"""Bootstrap rounds of the estimate, which is updated after each answer and shown with two digits."""
SAFE = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cache-Control": "no-store",
    "X-Frame-Options": "DENY",
}


Reply = tuple[str, bytes]
"""Media type and content."""


class PageServer(ABC):
    """Serves a page locally, at a secret address, to this machine only.

    Parameters
    ----------
    port : int
        0 for any that is free.

    Raises
    ------
    OutputError
        If the port cannot be used.
    """

    def __init__(self, port: int = 0) -> None:
        token = secrets.token_urlsafe(24)
        handler = type("Handler", (_Handler,), {"server_of": self, "base": f"/{token}/"})
        try:
            self._server = _Server((HOST, port), handler)
        except (OSError, OverflowError) as error:
            raise OutputError(f"port {port} cannot be used: {getattr(error, 'strerror', None) or error}") from error
        self.address = f"http://{HOST}:{self._server.server_port}/{token}/"

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.server_close()

    def serve(self) -> None:
        """Serve until `stop` is called from another thread, or Ctrl-C."""
        self._server.serve_forever(poll_interval=0.2)

    def stop(self) -> None:
        """End `serve`."""
        self._server.shutdown()

    def origins(self) -> set[str]:
        """Return the allowed values of the Host header."""
        return {f"{host}:{self._server.server_port}" for host in (HOST, "localhost")}

    @abstractmethod
    def page(self) -> str:
        """Return the page."""

    @abstractmethod
    def media(self, kind: str, arguments: list[str]) -> Reply | None:
        """Return what the page requests, such as sound; None for an unknown kind or wrong arguments.

        Parameters
        ----------
        kind : str
            First part of the path.
        arguments : list[str]
            Further parts of the path.
        """

    @abstractmethod
    def add(self, posted: Any) -> dict[str, Any]:
        """Keep what the page posted; return the reply.

        Parameters
        ----------
        posted : Any
            Decoded JSON.
        """


class ReviewServer(PageServer):
    """Serves a review page locally; each answer is flushed to disk before the page is notified.

    Parameters
    ----------
    review : Review
        Items to review.
    answers : str | Path
        The file that answers are added to.
    title : str
        Title of the page.
    port : int
        0 for any that is free.

    Raises
    ------
    OutputError
        If the port cannot be used.

    Examples
    --------
    >>> items = barn_owl.annotation.review_items(barn_owl.read_events("events.csv"), stretches=0)
    >>> with barn_owl.show.ReviewServer(barn_owl.show.Review(items), "served.jsonl") as server:
    ...     server.address.startswith("http://127.0.0.1:")
    True
    """

    def __init__(
        self, review: Review, answers: str | Path, *, title: str = "Events to review", port: int = 0
    ) -> None:
        self.review, self._path, self._title = review, Path(answers), title
        self.answers = read_reviews(answers) if is_file(self._path) else {}
        self._keys = item_keys(review.items)
        self._known = set(self._keys)
        self._lock = Lock()
        super().__init__(port)

    def page(self) -> str:
        """Return the page with all answers so far, including answers of further servers of the same file."""
        with self._lock:
            if is_file(self._path):
                self.answers = read_reviews(self._path)
            return review_page(self.review, self.answers, title=self._title, estimate=self.estimate())

    def media(self, kind: str, arguments: list[str]) -> Reply | None:
        """Return the sound or picture of an item.

        Parameters
        ----------
        kind : str
            ``sound`` or ``picture``.
        arguments : list[str]
            Number of the item.
        """
        index = _number(arguments[0]) if len(arguments) == 1 else None
        if index is None or index >= len(self.review.items):
            return None
        if kind == "sound":
            return "audio/flac", self.review.sound(index)
        return ("image/jpeg", self.review.picture(index)) if kind == "picture" else None

    def estimate(self) -> list[dict[str, Any]]:
        """Return the estimate from all answers."""
        given = [self.answers.get(key) for key in self._keys]
        return estimate_rows(estimate_from(self.review.items, given, rounds=ROUNDS))

    def add(self, posted: Any) -> dict[str, Any]:
        """Keep an answer; return the estimate that follows.

        Parameters
        ----------
        posted : Any
            Answer that a page posted.
        """
        answer = ReviewAnswer.checked(posted)
        if answer.item not in self._known:
            raise TableError("there is no such item; load the page again")
        with self._lock:
            add_answer(self._path, answer)
            if answer.verdict:
                self.answers[answer.item] = answer
            else:
                self.answers.pop(answer.item, None)
            return {"answered": len(self.answers), "estimate": self.estimate()}


class AnnotationServer(PageServer):
    """Serves the annotation page locally; each mark is flushed to disk before the page is notified.

    Parameters
    ----------
    marks : MarkFile
        Marks, with the recordings to annotate.
    labels : Sequence[str]
        Labels to offer first, on the keys 1 to 9.
    title : str
        Title of the page.
    port : int
        0 for any that is free.

    Raises
    ------
    OutputError
        If the port cannot be used.
    AudioError
        If a recording cannot be read.

    Examples
    --------
    >>> marks = barn_owl.annotation.MarkFile("served.csv", ["night.wav"])
    >>> with barn_owl.show.AnnotationServer(marks, labels=["hum"]) as server:
    ...     server.address.startswith("http://127.0.0.1:")
    True
    """

    def __init__(
        self, marks: MarkFile, *, labels: Sequence[str] = (), title: str = "Annotation", port: int = 0
    ) -> None:
        self.marks, self._labels, self._title = marks, list(labels), title
        self._tiles = Tiles(marks.recordings)
        self._facts = [self._tiles.facts(number) for number in range(len(marks.recordings))]
        self._numbers = {recording: number for number, recording in enumerate(marks.recordings)}
        self._unwritten = Event()
        self._ended = Event()
        self._writer = Thread(target=self._write_tables, daemon=True)
        super().__init__(port)
        self._writer.start()

    def __exit__(self, *_: object) -> None:
        super().__exit__()
        self._tiles.close()
        self._ended.set()
        self._unwritten.set()
        self._writer.join()
        self.marks.write_table()

    def _write_tables(self) -> None:
        """Write the truth table after changes, at most once per `WRITING_S`."""
        while self._unwritten.wait() and not self._ended.is_set():
            self._unwritten.clear()
            try:
                self.marks.write_table()
            except OutputError as error:  # the journal has the marks; tried again after the next one and at the end
                logger.warning("%s", error)
            self._ended.wait(WRITING_S)

    def page(self) -> str:
        """Return the page; it requests the marks by itself."""
        names = [Path(recording).name for recording in self.marks.recordings]
        return annotation_page(self._title, names, self._facts, self._labels, self.marks.journal)

    def media(self, kind: str, arguments: list[str]) -> Reply | None:
        """Return a tile, an overview, an excerpt of sound, or the changes of marks.

        Parameters
        ----------
        kind : str
            ``tile``, ``overview``, ``sound`` or ``marks``.
        arguments : list[str]
            ``tile``: recording, scale, level, index. ``overview``: recording. ``sound``: recording, start and end in
            milliseconds. ``marks``: number of changes that are known.
        """
        numbers = [_number(argument) for argument in arguments]
        match kind, numbers:
            case "marks", [int(since)]:
                self.marks.refresh()
                count, changed = self.marks.changes(since)
                return "application/json", json.dumps({"count": count, "marks": self._shown(changed)}).encode()
            case "overview", [int(number)] if number < len(self._numbers):
                done, shades = self._tiles.overview(number)
                return "application/octet-stream", bytes([round(100 * done)]) + shades.tobytes()
            case "tile", [int(number), None, _, int(index)] if number < len(self._numbers):
                tile = self._tiles.tile(number, cast("Scale", arguments[1]), _level(arguments[2]), index)
                return "application/octet-stream", tile.tobytes()
            case "sound", [int(number), int(start), int(end)] if number < len(self._numbers):
                return "audio/flac", excerpt_sound(self.marks.recordings[number], start / 1000, end / 1000)
        return None

    def _shown(self, marks: Sequence[Mark]) -> list[dict[str, Any]]:
        """Return marks of the recordings as JSON, with the number of their recording."""
        return [asdict(mark) | {"file": self._numbers[mark.file]} for mark in marks if mark.file in self._numbers]

    def add(self, posted: Any) -> dict[str, Any]:
        """Keep the new state of a mark; return the time that it is kept with.

        Parameters
        ----------
        posted : Any
            Mark, with the number of its recording as ``file``.
        """
        if not isinstance(posted, dict) or posted.get("file") not in self._numbers.values():
            raise TableError("there is no such recording; load the page again")
        mark = Mark.checked(posted | {"more": {}, "file": self.marks.recordings[int(posted["file"])]})
        duration_s = self._facts[int(posted["file"])]["seconds"]
        if mark.end_s > duration_s + ROUNDING_S:
            raise TableError(f"the recording ends at {duration_s:.3f} s; got a mark until {mark.end_s:.3f} s")
        self.marks.add(mark)
        self._unwritten.set()
        return {"when": mark.when}


class _Server(ThreadingHTTPServer):
    """A server with a thread per connection; connections that a browser ends early are no errors."""

    daemon_threads = True
    request_queue_size = 512

    def handle_error(self, request: Any, client_address: Any) -> None:  # noqa: ARG002 - as the parent class
        """Log the failure of a connection."""
        error = sys.exception()
        if not isinstance(error, ConnectionError | TimeoutError):
            logger.warning("a request to a page failed: %r", error)


class _Handler(BaseHTTPRequestHandler):
    """Handler of a request; `server_of` and `base` are set by its server."""

    server_of: ClassVar[PageServer]
    base: ClassVar[str]
    protocol_version = "HTTP/1.1"
    timeout = 30

    def do_GET(self) -> None:
        """Serve the page, or what it requests."""
        place = self._place()
        if place is None:
            return
        if place == "":
            try:
                page = self.server_of.page().encode("utf-8", "backslashreplace")
            except BarnOwlError as error:  # the file of answers was replaced by something else, for example
                self._refuse(500, str(error))
            else:
                self._answer(200, "text/html; charset=utf-8", page)
            return
        kind, *arguments = place.split("/")
        try:
            reply = self.server_of.media(kind, arguments)
        except BarnOwlError as error:
            self._refuse(404, str(error))
            return
        if reply is None:
            self._refuse(404, "there is nothing here")
        else:
            self._answer(200, *reply)

    def do_POST(self) -> None:
        """Take an answer."""
        place = self._place()
        if place is None:
            return
        length = _number(self.headers.get("Content-Length", ""))
        if place != "answer" or self.headers.get_content_type() != "application/json":
            self._refuse(404, "there is nothing here")
        elif length is None or length > MAX_ANSWER:
            self._refuse(413, "an answer cannot be that long")
        else:
            try:
                reply = self.server_of.add(json.loads(self.rfile.read(length)))
            except OutputError as error:
                self._refuse(507, str(error))
            except BarnOwlError as error:
                self._refuse(400, str(error))
            except (ValueError, RecursionError):
                self._refuse(400, "not an answer of this page")
            else:
                self._answer(200, "application/json", json.dumps(reply, allow_nan=False).encode())

    def _place(self) -> str | None:
        """Return the requested path, if the address is right and no foreign page asks."""
        own, origin = self.server_of.origins(), self.headers.get("Origin")
        # The Host header is checked, since a foreign domain may resolve to this machine.
        unknown = self.headers.get("Host") not in own or (
            origin is not None and origin.removeprefix("http://") not in own
        )
        path = self.path.split("?")[0]
        if unknown or not secrets.compare_digest(path[: len(self.base)].encode(), self.base.encode()):
            self._refuse(403, "this address is not known")
            return None
        return path[len(self.base) :]

    def _refuse(self, code: int, why: str) -> None:
        # The body was not read, so the connection must be closed.
        self.close_connection = True
        self._answer(code, "text/plain; charset=utf-8", why.encode("utf-8", "backslashreplace"))

    def _answer(self, code: int, kind: str, body: bytes) -> None:
        self.send_response(code)
        for name, value in SAFE.items():
            self.send_header(name, value)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        if self.close_connection:
            self.send_header("Connection", "close")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:  # noqa: A002 - the name is that of the class above
        """Log nothing."""


def _level(text: str) -> int:
    """Return the level of a tile; one that no tile has for invalid text."""
    return int(text) if text.removeprefix("-").isdecimal() and len(text) <= MAX_DIGITS else -MAX_DIGITS


def _number(text: str) -> int | None:
    """Return a number in a request; None for invalid text."""
    return int(text) if text.isdecimal() and len(text) <= MAX_DIGITS else None
