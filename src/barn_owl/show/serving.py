"""A local server for the review page: secret address, files of the table only."""

import json
import logging
import secrets
import sys
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING, Any, ClassVar

from barn_owl.annotation import ReviewAnswer, add_answer, estimate_from, item_keys, read_reviews
from barn_owl.errors import BarnOwlError, OutputError, TableError
from barn_owl.files import is_file
from barn_owl.show.reviewing import Review, estimate_rows, review_page

if TYPE_CHECKING:
    from collections.abc import Callable

logger = logging.getLogger(__name__)

HOST = "127.0.0.1"
MAX_ANSWER = 65_536
"""Bytes of an answer."""
MAX_DIGITS = 9
"""Digits of a number in a request."""
ROUNDS = 300
"""Bootstrap rounds of the estimate, which is updated after each answer and shown with two digits."""
SAFE = {
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cache-Control": "no-store",
    "X-Frame-Options": "DENY",
}


class ReviewServer:
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
        token = secrets.token_urlsafe(24)
        handler = type("Handler", (_Handler,), {"server_of": self, "base": f"/{token}/"})
        try:
            self._server = _Server((HOST, port), handler)
        except (OSError, OverflowError) as error:
            raise OutputError(f"port {port} cannot be used: {getattr(error, 'strerror', None) or error}") from error
        self.address = f"http://{HOST}:{self._server.server_port}/{token}/"

    def __enter__(self) -> "ReviewServer":
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

    def page(self) -> str:
        """Return the page with all answers so far, including answers of further servers of the same file."""
        with self._lock:
            if is_file(self._path):
                self.answers = read_reviews(self._path)
            return review_page(self.review, self.answers, title=self._title, estimate=self.estimate())

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


class _Server(ThreadingHTTPServer):
    """A server with a thread per connection; connections that a browser ends early are no errors."""

    daemon_threads = True
    request_queue_size = 512

    def handle_error(self, request: Any, client_address: Any) -> None:  # noqa: ARG002 - as the parent class
        """Log the failure of a connection."""
        error = sys.exception()
        if not isinstance(error, ConnectionError | TimeoutError):
            logger.warning("a request to the review page failed: %r", error)


class _Handler(BaseHTTPRequestHandler):
    """Handler of a request; `server_of` and `base` are set by its server."""

    server_of: ClassVar[ReviewServer]
    base: ClassVar[str]
    protocol_version = "HTTP/1.1"
    timeout = 30

    def do_GET(self) -> None:
        """Serve the page, or the sound or picture of an item."""
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
        kind, _, number = place.partition("/")
        media: dict[str, tuple[str, Callable[[int], bytes]]] = {
            "sound": ("audio/flac", self.server_of.review.sound),
            "picture": ("image/jpeg", self.server_of.review.picture),
        }
        index = _number(number)
        if kind not in media or index is None or index >= len(self.server_of.review.items):
            self._refuse(404, "there is nothing here")
            return
        try:
            self._answer(200, media[kind][0], media[kind][1](index))
        except BarnOwlError as error:
            self._refuse(404, str(error))

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
                self._refuse(400, "not a review answer")
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


def _number(text: str) -> int | None:
    """Return a number in a request; None for invalid text."""
    return int(text) if text.isdecimal() and len(text) <= MAX_DIGITS else None
