"""As much of an HTTP/1.1 server as can be made to misbehave: answers late, breaks off in mid-body, tells lies."""

import asyncio
import json
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

import h11

LARGEST_BODY = 1024 * 1024


@dataclass(slots=True)
class Request:
    """A call; header names in lower case."""

    method: str
    path: str
    headers: dict[str, str]
    body: bytes


@dataclass(slots=True)
class Response:
    """An answer. ``cut_at``: after so many bytes of the body the connection is closed; 0 closes it without a word."""

    status: int
    headers: dict[str, str] = field(default_factory=dict)
    body: bytes = b""
    cut_at: int | None = None

    @classmethod
    def of_json(cls, status: int, body: Any, headers: dict[str, str]) -> "Response":
        """With a JSON body."""
        return cls(status, {"Content-Type": "application/json", **headers}, json.dumps(body).encode())


Answer = Callable[[Request], Awaitable[Response]]


class Server:
    """Serves ``answer`` until it is closed."""

    def __init__(self, answer: Answer) -> None:
        self._answer = answer
        self._server: asyncio.Server | None = None
        self._open: set[asyncio.StreamWriter] = set()

    async def start(self, host: str, port: int) -> int:
        """Begins to listen; returns the port."""
        self._server = await asyncio.start_server(self._serve, host, port)
        return int(self._server.sockets[0].getsockname()[1])

    async def close(self) -> None:
        """Ends it, and all its connections."""
        assert self._server is not None
        self._server.close()
        for writer in list(self._open):
            writer.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._open.add(writer)
        connection = h11.Connection(h11.SERVER)
        with suppress(OSError, h11.RemoteProtocolError, asyncio.CancelledError):
            while (request := await _read(connection, reader)) is not None:
                response = await self._answer(request)
                if not await _write(connection, writer, request, response):
                    break
                if connection.our_state is not h11.DONE or connection.their_state is not h11.DONE:
                    break
                connection.start_next_cycle()
        self._open.discard(writer)
        writer.close()


async def _read(connection: h11.Connection, reader: asyncio.StreamReader) -> Request | None:
    head: h11.Request | None = None
    body = bytearray()
    while True:
        event = connection.next_event()
        if event is h11.NEED_DATA:
            connection.receive_data(await reader.read(65536))
        elif isinstance(event, h11.Request):
            head = event
        elif isinstance(event, h11.Data):
            body += event.data
            if len(body) > LARGEST_BODY:
                return None
        elif isinstance(event, h11.EndOfMessage):
            assert head is not None
            headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in head.headers}
            return Request(head.method.decode(), head.target.decode("latin-1"), headers, bytes(body))
        else:
            return None


async def _write(
    connection: h11.Connection, writer: asyncio.StreamWriter, request: Request, response: Response
) -> bool:
    """Sends an answer; False if it was to break off."""
    if response.cut_at == 0:
        return False
    headers = [*response.headers.items()]
    if response.status not in (204, 304):
        headers.append(("Content-Length", str(len(response.body))))
    head = h11.Response(status_code=response.status, headers=headers)
    writer.write(connection.send(head) or b"")
    piece = response.body if response.cut_at is None else response.body[: response.cut_at]
    if piece and request.method != "HEAD":
        writer.write(connection.send(h11.Data(data=piece)) or b"")
    await writer.drain()
    if response.cut_at is not None:
        return False
    writer.write(connection.send(h11.EndOfMessage()) or b"")
    await writer.drain()
    return True
