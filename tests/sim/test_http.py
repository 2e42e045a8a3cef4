import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager

import pytest

from mellow_herald.sim import http
from mellow_herald.sim.http import Connections, LostError

Serve = Callable[[asyncio.StreamReader, asyncio.StreamWriter, int], Awaitable[None]]
NOTHING = b"HTTP/1.1 204 No Content\r\nHerald-Next-Checkin: 60\r\n\r\n"


class Server:
    """Hands each connection to a script, with its number; keeps what was asked."""

    def __init__(self, script: Serve) -> None:
        self._script, self.connections, self.asked = script, 0, list[bytes]()

    async def read(self, reader: asyncio.StreamReader) -> bytes:
        head = await reader.readuntil(b"\r\n\r\n")
        length = int(head.lower().partition(b"content-length: ")[2].partition(b"\r\n")[0])
        self.asked.append(head + await reader.readexactly(length))
        return self.asked[-1]

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.connections += 1
        try:
            await self._script(reader, writer, self.connections)
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            writer.close()

    @asynccontextmanager
    async def running(self) -> AsyncIterator[Connections]:
        server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        connections = Connections(f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/behind")
        yield connections
        connections.close()
        server.close()


async def ask(connections: Connections, body: bytes = b"{}", **more: float) -> tuple[int, dict[str, str], bytes]:
    async with connections.call("POST", "/checkins", [("prefer", "wait=5")], body, **more) as reply:
        return reply.status, reply.headers, await reply.read()


async def test_calls_share_a_connection_and_say_what_they_are_to() -> None:
    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, _: int) -> None:
        for answer in (NOTHING, b"HTTP/1.1 200 OK\r\ncontent-length: 4\r\n\r\nbody", NOTHING):
            await server.read(reader)
            for byte in answer:  # in as many pieces as a network can make of it
                writer.write(bytes([byte]))
                await writer.drain()

    server = Server(script)
    async with server.running() as connections:
        assert await ask(connections) == (204, {"herald-next-checkin": "60"}, b"")
        assert (await ask(connections, b'{"seq": 2}'))[::2] == (200, b"body")
        assert (await ask(connections))[0] == 204
    assert server.connections == 1
    assert server.asked[1].startswith(b"POST /behind/checkins HTTP/1.1\r\nhost: 127.0.0.1:")
    assert server.asked[1].endswith(b'prefer: wait=5\r\ncontent-length: 10\r\n\r\n{"seq": 2}')


async def test_calls_at_the_same_time_have_connections_of_their_own() -> None:
    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, _: int) -> None:
        while await server.read(reader):
            await asyncio.sleep(0.05)
            writer.write(NOTHING)

    server = Server(script)
    async with server.running() as connections:
        for _ in range(2):
            answers = await asyncio.gather(*(ask(connections) for _ in range(8)))
            assert [status for status, _, _ in answers] == [204] * 8
    assert server.connections == 8


async def test_a_kept_connection_that_was_closed_meanwhile_is_no_lost_call() -> None:
    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, number: int) -> None:
        await server.read(reader)
        writer.write(NOTHING)
        if number == 1:
            await server.read(reader)  # heard, and closed without a word: as a service does that stops
            return
        await server.read(reader)

    server = Server(script)
    async with server.running() as connections:
        assert [(await ask(connections))[0] for _ in range(2)] == [204, 204]
    assert server.connections == 2 and len(server.asked) >= 3


@pytest.mark.parametrize(
    "answer",
    [
        b"",
        b"HTTP/1.1 200 OK\r\ncontent-le",
        b"HTTP/1.1 200 OK\r\ncontent-length: 10\r\n\r\nhalf",
        b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n5\r\nhello\r\n",
        b"SSH-2.0-something else\r\n\r\n",
    ],
)
async def test_an_answer_that_breaks_off_is_lost(answer: bytes) -> None:
    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, _: int) -> None:
        await server.read(reader)
        writer.write(answer)
        await writer.drain()

    server = Server(script)
    async with server.running() as connections:
        with pytest.raises(LostError):
            await ask(connections)
        assert not connections._idle
    assert server.connections == 1, "it was a fresh connection: nothing speaks for a second try at once"


async def test_who_does_not_answer_or_stops_in_the_middle_is_left(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(http, "PIECE_S", 0.05)

    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, number: int) -> None:
        await server.read(reader)
        if number == 2:
            writer.write(b"HTTP/1.1 200 OK\r\ncontent-length: 10\r\n\r\nhalf")
        await asyncio.sleep(5)

    server = Server(script)
    async with server.running() as connections:
        with pytest.raises(LostError, match=r"no answer within 0\.05 s"):
            await ask(connections, answer_s=0.05)
        with pytest.raises(LostError, match="nothing more came"):
            await ask(connections)
    with pytest.raises(LostError, match="no connection"):
        await ask(connections)


async def test_an_image_comes_in_pieces_no_faster_than_it_is_read() -> None:
    size, sent = 8 * http.FULL, 0

    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, _: int) -> None:
        nonlocal sent
        await server.read(reader)
        writer.write(b"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.1 206 Partial Content\r\ncontent-length: %d\r\n\r\n" % size)
        while sent < size:
            writer.write(b"x" * 65536)
            await writer.drain()
            sent += 65536
        await server.read(reader)
        writer.write(NOTHING)

    server = Server(script)
    async with server.running() as connections:
        async with connections.call("GET", "/images/1", []) as reply:
            assert (reply.status, reply.headers) == (206, {"content-length": str(size)})
            await asyncio.sleep(0.3)
            assert sent < size, "what nobody reads has to wait on the other side"
            assert sum([len(piece) async for piece in reply.pieces()]) == size
        assert (await ask(connections))[0] == 204
        assert server.connections == 1


async def test_a_call_that_is_given_up_takes_its_connection_with_it() -> None:
    async def script(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, number: int) -> None:
        await server.read(reader)
        await asyncio.sleep(0.2 if number == 1 else 0)
        writer.write(NOTHING)

    server = Server(script)
    async with server.running() as connections:
        asking = asyncio.create_task(ask(connections))
        await asyncio.sleep(0.05)
        asking.cancel()
        with pytest.raises(asyncio.CancelledError):
            await asking
        assert (await ask(connections))[0] == 204
    assert server.connections == 2, "or the next call would get the answer to this one"
