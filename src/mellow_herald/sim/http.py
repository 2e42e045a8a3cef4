"""HTTP/1.1 (RFC 9112) on kept connections, for thousands of devices in one process: what they need of it, and no more.

A general client takes three quarters of a simulated fleet's time for what these devices never ask for. Here the parser
is a C one, a call costs one write and one wait, and connections are kept in a stack, so that the idlest are closed.
"""

import asyncio
import ssl
from collections import deque
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager
from typing import cast
from urllib.parse import urlsplit

import httptools

CONNECT_S, ANSWER_S, PIECE_S = 5.0, 30.0, 5.0
# An answer that nobody reads is left in the network from here on (bytes).
FULL = 1024 * 1024
Headers = Iterable[tuple[str, str]]


class LostError(Exception):
    """No answer came, or not all of it. ``unheard`` if a connection that had been kept was closed before any of it."""

    def __init__(self, why: str, *, unheard: bool = False) -> None:
        super().__init__(why)
        self.unheard = unheard


class Reply(asyncio.Protocol):
    """A connection, and the answer to the call that is made on it: ``status``, ``headers`` (names in lower case), and a
    body that comes in pieces."""

    def __init__(self) -> None:
        self.status = 0
        self.headers: dict[str, str] = {}
        self.calls = 0
        self._loop = asyncio.get_running_loop()
        self._transport: asyncio.Transport
        self._parser = httptools.HttpResponseParser(self)
        self._pieces: deque[bytes] = deque()
        self._waiting: asyncio.Future[None] | None = None
        self._headed = self._ended = self._stays = self._paused = False
        self._lost: str | None = None

    async def ask(self, request: bytes) -> None:
        """Sends a request; returns with the answer's head."""
        self.calls += 1
        self.status, self.headers = 0, {}
        self._headed = self._ended = False
        self._pieces.clear()
        if self._lost is None:
            self._transport.write(request)
        while not self._headed:
            await self._word()

    async def pieces(self) -> AsyncIterator[bytes]:
        """The body, as it comes; LostError if it stops coming."""
        while True:
            while self._pieces:
                yield self._pieces.popleft()
            if self._ended:
                return
            if self._paused:
                self._paused = False
                self._transport.resume_reading()
            try:
                async with asyncio.timeout(PIECE_S):
                    await self._word()
            except TimeoutError:
                raise LostError(f"nothing more came for {PIECE_S:g} s") from None

    async def read(self) -> bytes:
        """All of the body."""
        if self._ended and len(self._pieces) <= 1:
            return self._pieces.popleft() if self._pieces else b""
        return b"".join([piece async for piece in self.pieces()])

    @property
    def can_be_kept(self) -> bool:
        """Whether another call can be made on it."""
        return self._ended and self._lost is None and self._stays

    def close(self) -> None:
        """Ends the connection."""
        if self._lost is None:
            self._lost = "it was closed"
            self._transport.abort()

    async def _word(self) -> None:
        """Waits until something has come."""
        if self._lost is not None:
            raise LostError(self._lost, unheard=self.calls > 1 and not self.status and not self.headers)
        self._waiting = self._loop.create_future()
        try:
            await self._waiting
        finally:
            self._waiting = None

    def _wake(self) -> None:
        if self._waiting is not None and not self._waiting.done():
            self._waiting.set_result(None)

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Of asyncio."""
        self._transport = cast(asyncio.Transport, transport)

    def connection_lost(self, exc: Exception | None) -> None:
        """Of asyncio."""
        self._lost = self._lost or str(exc or "the connection was closed")
        self._wake()

    def data_received(self, data: bytes) -> None:
        """Of asyncio."""
        try:
            self._parser.feed_data(data)
        except httptools.HttpParserError as error:
            self._lost = f"what came is not HTTP: {error}"
            self._transport.abort()
        if not self._paused and sum(map(len, self._pieces)) > FULL:
            self._paused = True
            self._transport.pause_reading()
        self._wake()

    def on_header(self, name: bytes, value: bytes) -> None:
        """Of the parser."""
        self.headers[name.decode("latin-1").lower()] = value.decode("latin-1")

    def on_headers_complete(self) -> None:
        """Of the parser."""
        self.status, self._stays = self._parser.get_status_code(), self._parser.should_keep_alive()
        self._headed = self.status >= 200
        if not self._headed:  # a word in between (RFC 9110, section 15.2); the answer follows
            self.headers = {}

    def on_body(self, body: bytes) -> None:
        """Of the parser."""
        self._pieces.append(body)

    def on_message_complete(self) -> None:
        """Of the parser."""
        self._ended = self._headed


class Connections:
    """To one service. Devices share them: none is busy for longer than a call, and most are silent most of the time."""

    def __init__(self, url: str, tls: ssl.SSLContext | None = None) -> None:
        parts = urlsplit(url)
        self._secure, self._host = parts.scheme == "https", parts.hostname or ""
        self._port = parts.port or (443 if self._secure else 80)
        self._prefix, self._netloc = parts.path.rstrip("/"), parts.netloc.rpartition("@")[2]
        self._tls = (tls or ssl.create_default_context()) if self._secure else None
        self._idle: list[Reply] = []

    @asynccontextmanager
    async def call(
        self, method: str, path: str, headers: Headers, body: bytes = b"", *, answer_s: float = ANSWER_S
    ) -> AsyncIterator[Reply]:
        """Makes a call; its answer has to begin within ``answer_s``. LostError if none comes."""
        lines = "".join(f"{name}: {value}\r\n" for name, value in headers)
        head = f"{method} {self._prefix}{path} HTTP/1.1\r\nhost: {self._netloc}\r\n{lines}"
        request = f"{head}content-length: {len(body)}\r\n\r\n".encode("latin-1") + body
        reply = await self._asked(request, answer_s)
        try:
            yield reply
        finally:
            if reply.can_be_kept:
                self._idle.append(reply)
            else:
                reply.close()

    async def _asked(self, request: bytes, answer_s: float) -> Reply:
        while True:
            reply = await self._connection()
            try:
                async with asyncio.timeout(answer_s):
                    await reply.ask(request)
                return reply
            except LostError as error:
                reply.close()
                # It was closed while it lay idle; another may be as old. Devices' calls bear being heard twice.
                if not error.unheard:
                    raise
            except TimeoutError:
                reply.close()
                raise LostError(f"no answer within {answer_s:g} s") from None
            except BaseException:
                reply.close()
                raise

    async def _connection(self) -> Reply:
        while self._idle:
            kept = self._idle.pop()
            if kept.can_be_kept:
                return kept
        try:
            async with asyncio.timeout(CONNECT_S):
                loop = asyncio.get_running_loop()
                _, made = await loop.create_connection(Reply, self._host, self._port, ssl=self._tls)
        except (OSError, TimeoutError) as error:
            raise LostError(f"no connection: {error}") from None
        return made

    def close(self) -> None:
        """Ends those that are idle."""
        while self._idle:
            self._idle.pop().close()
