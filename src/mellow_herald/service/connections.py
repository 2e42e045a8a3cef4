"""Connections that are not let stand for ever: who sends half a request is sent away, and one address cannot have all.

Looked at together, every few seconds, so that a request costs no timer of its own.
"""

import asyncio
import resource
from array import array
from collections import Counter
from contextlib import suppress
from fcntl import ioctl
from ipaddress import ip_address
from termios import FIONREAD
from typing import Any, ClassVar

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from mellow_herald.service.zero_copy import EXTENSION, ZeroCopy

LOOK_SECONDS = 2.0
# Whose answers may be files.
IMAGES = b"/device/v1/images/"
# For all headers; and what a body is to bring once it has had as long.
PATIENCE_SECONDS, SLOWEST = 10.0, 1024
PER_ADDRESS = 200
# Files that are not connections of callers: the database's, images, the log.
OTHER_FILES = 256
_TOO_MANY = b"HTTP/1.1 503 Service Unavailable\r\nretry-after: 5\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"
_TOO_SLOW = b"HTTP/1.1 408 Request Timeout\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"


class Connection(HttpToolsProtocol):
    """One connection. ``awaited_since`` is the loop's time from which on it has been awaited, None while it is idle
    between requests or we are at work; ``body`` counts what has come of a body, None before its headers are there."""

    by_address: ClassVar[Counter[str]] = Counter()
    most: ClassVar[int] = 10_000
    trusted: ClassVar[frozenset[str]] = frozenset()

    awaited_since: float | None = None
    body: int | None = None
    counted: str | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Takes a connection, if there is room for it."""
        super().connection_made(transport)
        self.awaited_since = self.loop.time()
        address = self.client[0] if self.client else ""
        full = len(self.connections) > self.most
        if address and not _is_ours(address, self.trusted):
            self.counted = address
            self.by_address[address] += 1
            full = full or self.by_address[address] > PER_ADDRESS
        if full:
            self.refuse(_TOO_MANY)

    def connection_lost(self, exc: Exception | None) -> None:
        """Lets it go."""
        if self.counted is not None:
            self.by_address[self.counted] -= 1
            if self.by_address[self.counted] <= 0:
                del self.by_address[self.counted]
        super().connection_lost(exc)

    def on_message_begin(self) -> None:
        """A request begins."""
        self.awaited_since, self.body = self.loop.time(), None
        super().on_message_begin()

    def on_headers_complete(self) -> None:
        """Its headers are there."""
        self.awaited_since, self.body = self.loop.time(), 0
        super().on_headers_complete()
        # The task that serves it has been made, but not begun.
        if self.url.startswith(IMAGES):
            self.scope["extensions"] = {EXTENSION: {}}
            self.cycle.send = ZeroCopy(self.cycle).send  # type: ignore[assignment, method-assign]

    def on_body(self, body: bytes) -> None:
        """Some of its body is there."""
        self.body = (self.body or 0) + len(body)
        super().on_body(body)

    def on_message_complete(self) -> None:
        """All of it is there."""
        self.awaited_since = None
        super().on_message_complete()

    def is_too_slow(self, now: float) -> bool:
        """Whether its caller has been awaited for too long. While we do not read, it is not the caller who is slow."""
        if self.awaited_since is None or self.flow.read_paused:
            return False
        waited = now - self.awaited_since
        slow = waited > PATIENCE_SECONDS and (self.body is None or self.body < SLOWEST * waited)
        # Where thousands call at once, what they said may lie here unread.
        return slow and not _unread(self.transport)

    def refuse(self, answer: bytes) -> None:
        """Ends it, with a word where none has been said to this request."""
        between = self.body is None and (self.cycle is None or self.cycle.response_complete)
        unanswered = self.body is not None and not self.cycle.response_started
        self.awaited_since = None
        if not self.transport.is_closing():
            if between or unanswered:
                self.transport.write(answer)
            self.transport.close()


async def keep_looking(connections: set[Any]) -> None:
    """Until cancelled: sends away who is awaited for too long."""
    loop = asyncio.get_running_loop()
    while True:
        now = loop.time()
        for connection in list(connections):
            if isinstance(connection, Connection) and connection.is_too_slow(now):
                connection.refuse(_TOO_SLOW)
        await asyncio.sleep(LOOK_SECONDS)


def make_room(trusted_proxy: str | None) -> None:
    """Has this process keep as many files open as it may, and take fewer connections than that."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    most = hard if hard != resource.RLIM_INFINITY else max(soft, 65536)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(most, 65536), hard))
    Connection.most = max(64, min(most, 65536) - OTHER_FILES)
    Connection.trusted = frozenset(one.strip() for one in (trusted_proxy or "").split(",") if one.strip())


def _unread(transport: asyncio.BaseTransport) -> int:
    """How many bytes have come that nobody has read yet."""
    count = array("i", [0])
    with suppress(OSError):
        ioctl(transport.get_extra_info("socket").fileno(), FIONREAD, count)
    return count[0]


def _is_ours(address: str, trusted: frozenset[str]) -> bool:
    """Whether many come through one address by right: this machine's programs, and a proxy that was named."""
    return address in trusted or ip_address(address.partition("%")[0]).is_loopback
