"""Delivery of events by HTTP POST, on urllib3."""

import json
import re
import socket
import threading
import urllib.request
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from barn_owl.errors import PlanError
from barn_owl.live.events import LiveEvent

if TYPE_CHECKING:
    from urllib3.connectionpool import HTTPConnectionPool
    from urllib3.util import Url

MAX_DELIVERY_S = 30.0
"""Time limit of a delivery, with all its retries."""
RETRIES, REDIRECTS = 2, 5
"""Repeated requests after failures that may pass, and redirects that are followed, at most."""
BACKOFF_S = 1.0
"""Base of the pause before a repeated request, doubled each time."""
MAX_REPLY = 65_536
"""Bytes of a reply that are read to keep the connection open; a longer reply closes it."""
MAX_REASON = 200
"""Characters of a failure that are reported, since a server chooses some of them."""


class Webhook:
    """Posts events as JSON to an address; raises OSError with the reason when an event was not accepted.

    A reply of 2xx is a success. Replies of 5xx and broken connections are retried; other replies are failures.
    Redirects within the host are followed with the event; a redirect to another host is a failure. The proxy that
    the environment names for the scheme is used.

    Parameters
    ----------
    address : str
        ``http://`` or ``https://``, in ASCII.
    max_duration_s : float
        Time limit of a delivery in seconds, with all its retries, however slowly the server replies.

    Raises
    ------
    PlanError
        If the address is invalid.
    """

    def __init__(self, address: str, *, max_duration_s: float = MAX_DELIVERY_S) -> None:
        import urllib3  # few commands need it

        url = _parsed(address)
        self._max_duration_s = max_duration_s
        self._shown = f"{url.scheme}://{url.netloc}"  # without password and path, which may be a secret
        self._url = url._replace(auth=None)
        self._headers = {"Content-Type": "application/json"}
        if url.auth:
            self._headers |= urllib3.make_headers(basic_auth=url.auth)
        self._pool: HTTPConnectionPool | None = None
        self._target = ""
        self._connection: Any = None

    def __call__(self, event: LiveEvent) -> None:
        """Post an event."""
        import urllib3
        from urllib3.exceptions import HTTPError, MaxRetryError
        from urllib3.util import Retry, Timeout

        retries = Retry(
            RETRIES + REDIRECTS, connect=RETRIES, read=RETRIES, other=RETRIES, status=RETRIES, redirect=REDIRECTS,
            status_forcelist=range(500, 600), allowed_methods=None, backoff_factor=BACKOFF_S,
            respect_retry_after_header=False, raise_on_status=False,
        )  # fmt: skip
        body = json.dumps(event.record(), ensure_ascii=False).encode()
        pool, target = self._opened_pool()
        alarm = threading.Timer(self._max_duration_s, self.close)
        alarm.daemon = True
        alarm.start()
        try:
            reply = pool.urlopen(
                "POST", target, body, self._headers, retries=retries, redirect=True, assert_same_host=True,
                timeout=Timeout(total=self._max_duration_s), preload_content=False,
            )  # fmt: skip
            failure = "" if 200 <= reply.status < 300 else f"{reply.status} {reply.reason or ''}".strip()
            _finish(reply)
        except urllib3.exceptions.HostChangedError as error:
            failure = f"it redirects to another host, {str(error).rpartition('url: ')[2]}"
        except (HTTPError, OSError, ValueError) as error:
            cause = error.reason if isinstance(error, MaxRetryError) and error.reason else error
            failure = str(cause).rpartition(": ")[2] or type(cause).__name__
        finally:
            alarm.cancel()
        if failure and self._connection is not None:
            self._connection.close()
        if self._pool is None:
            failure = failure and f"no complete reply within {self._max_duration_s:g} s"
        if failure:
            raise OSError(f"{self._shown} did not accept an event: {failure[:MAX_REASON]}")

    def close(self) -> None:
        """Close all connections; a request under way in another thread ends with an error."""
        pool, self._pool = self._pool, None
        if pool is not None:
            pool.close()  # so that nothing is retried
        with suppress(OSError, AttributeError):  # no connection, or a closed one
            self._connection.sock.shutdown(socket.SHUT_RDWR)

    def _opened_pool(self) -> tuple["HTTPConnectionPool", str]:
        """Pool of connections to the host, and the target of requests in it."""
        import urllib3

        if self._pool is None:
            url, self._target = self._url, self._url.request_uri
            proxy = urllib.request.getproxies().get(url.scheme or "")
            if proxy and not urllib.request.proxy_bypass(url.host or ""):
                manager: urllib3.PoolManager = urllib3.proxy_from_url(proxy, maxsize=1)
                self._target = url.url if url.scheme == "http" else self._target
            else:
                manager = urllib3.PoolManager(maxsize=1)
            self._pool = manager.connection_from_host(url.host, url.port, url.scheme)
            self._pool.ConnectionCls = self._interruptible(self._pool.ConnectionCls)
        return self._pool, self._target

    def _interruptible(self, parent: Any) -> Any:
        """Class of connections that `close` can end, and that never read an endless reply."""

        class Connection(parent):  # type: ignore[misc]
            def __init__(inner, *arguments: Any, **options: Any) -> None:  # noqa: N805 - self is the webhook
                super().__init__(*arguments, **options)
                self._connection = inner

            def getresponse(inner) -> Any:  # noqa: N805
                reply = super().getresponse()
                reply.drain_conn = reply.close  # before it retries, urllib3 would read the whole reply
                return reply

        return Connection


def _finish(reply: Any) -> None:
    """Read a short reply, so that the connection can be used again; close the connection of another."""
    from urllib3.exceptions import HTTPError

    if reply.length_remaining is not None and reply.length_remaining <= MAX_REPLY:
        with suppress(HTTPError, OSError):  # the status has been received, which decides
            reply.read()
            reply.release_conn()
            return
    reply.close()


def _parsed(address: str) -> "Url":
    """Parse the address of a webhook; raises PlanError if it is invalid."""
    from urllib3.exceptions import LocationParseError
    from urllib3.util import parse_url

    form = "an address is http:// or https://, a host, and optionally :PORT and /PATH"
    if not re.fullmatch(r"[\x21-\x7e]+", address):
        raise PlanError(
            "the address to post to has a space, a control character or a letter outside ASCII; "
            "write the host in Punycode and other letters percent-encoded"
        )
    try:
        url = parse_url(address)
        if url.scheme not in ("http", "https") or not url.host:
            raise PlanError(f"the address to post to has no http:// or https://, or no host; {form}")
        if not url.host.startswith("["):
            url.host.encode("idna")  # no empty and no overlong part
    except (LocationParseError, UnicodeError) as error:
        raise PlanError(f"the address to post to is invalid ({type(error).__name__}); {form}") from error
    return url
