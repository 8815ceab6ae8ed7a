"""An HTTP server with many wrong replies, a mood per connection."""

import contextlib
import socket
import threading
import time
from collections.abc import Iterator

OK = b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n"
MOODS: dict[str, list[bytes]] = {
    "no HTTP": [b"hello there\r\n\r\n"],
    "status 9999": [b"HTTP/1.1 9999 What\r\n\r\n"],
    "status below 100": [b"HTTP/1.1 7 What\r\n\r\n"],
    "endless header": [b"HTTP/1.1 200 OK\r\nX: " + b"a" * 100_000],
    "many headers": [b"HTTP/1.1 200 OK\r\n" + b"X: y\r\n" * 200 + b"\r\n"],
    "closed at once": [],
    "half a status line": [b"HTTP/1.1 2"],
    "half the headers": [b"HTTP/1.1 200 OK\r\nContent-"],
    "broken chunks": [b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n"],
    "length is no number": [b"HTTP/1.1 200 OK\r\nContent-Length: many\r\n\r\n"],
    "length is negative": [b"HTTP/1.1 200 OK\r\nContent-Length: -5\r\n\r\n"],
    "body too short": [b"HTTP/1.1 200 OK\r\nContent-Length: 500\r\n\r\nshort"],
    "binary": [bytes(range(256)) * 4],
    "zeros": [b"\0" * 5000],
    "redirect without place": [b"HTTP/1.1 302 Found\r\nContent-Length: 0\r\n\r\n"],
    "redirect to a wrong place": [b"HTTP/1.1 302 Found\r\nLocation: http://[::1\r\nContent-Length: 0\r\n\r\n"],
    "redirect to itself": [b"HTTP/1.1 301 Moved\r\nLocation: /owl\r\nContent-Length: 0\r\n\r\n"],
    "redirect elsewhere": [b"HTTP/1.1 301 Moved\r\nLocation: http://localhost:9/\r\nContent-Length: 0\r\n\r\n"],
    "again in a year": [b"HTTP/1.1 503 No\r\nRetry-After: 31536000\r\nContent-Length: 0\r\n\r\n"],
    "gone": [b"HTTP/1.1 410 Gone\r\nContent-Length: 0\r\n\r\n"],
    "drips": [b"HTTP/1.1 200 OK\r\n", *[b"x"] * 600],
    "endless body of an error": [b"HTTP/1.1 500 No\r\n\r\n", *[b"x" * 65_536] * 2000],
}
"""Replies by mood: items sent in sequence, small items slowly."""
ACCEPTED = (
    "length is negative", "broken chunks", "body too short", "length is no number", "half the headers", "drips",
)  # fmt: skip
"""Moods with a status of 200, which may count as accepted although the reply is not whole."""


class HostileServer:
    """Listens on a free port; `mood` selects the answers, `bodies` has the events that count as accepted."""

    def __init__(self) -> None:
        self.mood, self.bodies = "", list[bytes]()
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                connection, _ = self._socket.accept()
                threading.Thread(target=self._answer, args=(connection,), daemon=True).start()

    def _answer(self, connection: socket.socket) -> None:
        with contextlib.suppress(OSError), connection:
            while body := self._request(connection):
                mood = self.mood
                if not mood or mood in ACCEPTED:
                    self.bodies.append(body)
                if not mood:
                    connection.sendall(OK)
                    continue
                for part in MOODS[mood]:
                    connection.sendall(part)
                    if len(part) == 1:
                        time.sleep(0.05)
                return

    @staticmethod
    def _request(connection: socket.socket) -> bytes:
        received = b""
        while b"\r\n\r\n" not in received:
            if not (part := connection.recv(65_536)):
                return b""
            received += part
        head, _, body = received.partition(b"\r\n\r\n")
        length = int(head.lower().partition(b"content-length:")[2].split(b"\r\n")[0] or 0)
        while len(body) < length:
            body += connection.recv(65_536)
        return body

    def close(self) -> None:
        self._socket.close()


@contextlib.contextmanager
def hostile_server() -> Iterator[HostileServer]:
    """Yield a server that is closed after the block."""
    server = HostileServer()
    try:
        yield server
    finally:
        server.close()
