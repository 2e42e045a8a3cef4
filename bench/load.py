"""The load: so many devices, each on a connection of its own, check in one call after the other."""

import asyncio
import time
from collections.abc import Callable
from typing import cast

Body = Callable[[int], bytes]
END = b"\r\n\r\n"


class Caller(asyncio.Protocol):
    """One device. Answers have no body, so an answer ends with its headers."""

    def __init__(self, token: str, body: Body, first_seq: int) -> None:
        self._token, self._body, self._seq = token, body, first_seq
        self._transport: asyncio.Transport
        self._buffer = b""
        self.answers = 0
        self.refused = 0
        self.stopping = False

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Begins."""
        self._transport = cast(asyncio.Transport, transport)
        self._send()

    def data_received(self, data: bytes) -> None:
        """Counts the answer and calls again."""
        self._buffer += data
        if END not in self._buffer:
            return
        self.answers += 1
        if not self._buffer.startswith(b"HTTP/1.1 204"):
            self.refused += 1
        self._buffer = b""
        if not self.stopping:
            self._send()

    def _send(self) -> None:
        body = self._body(self._seq)
        self._seq += 1
        self._transport.write(
            b"POST /device/v1/checkins HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\n"
            b"Authorization: Bearer %b\r\nContent-Length: %d\r\n\r\n%b" % (self._token.encode(), len(body), body)
        )


async def answers_a_second(port: int, devices: list[tuple[str, Body, int]], seconds: float) -> tuple[float, int]:
    """(answers a second, answers that were not 204), after a second of warming up."""
    loop = asyncio.get_running_loop()
    callers = [Caller(token, body, seq) for token, body, seq in devices]
    for caller in callers:
        await loop.create_connection(lambda caller=caller: caller, "127.0.0.1", port)  # type: ignore[misc]
    await asyncio.sleep(1.0)
    before, began = sum(caller.answers for caller in callers), time.perf_counter()
    await asyncio.sleep(seconds)
    after, ended = sum(caller.answers for caller in callers), time.perf_counter()
    for caller in callers:
        caller.stopping = True
    await asyncio.sleep(0.2)
    return (after - before) / (ended - began), sum(caller.refused for caller in callers)
