"""The bytes of a file go from the system's memory to the network without passing through ours: what ASGI calls
``http.response.zerocopysend``, which the server does not speak by itself."""

import asyncio
import os
from contextlib import suppress

from starlette.types import Message
from uvicorn.protocols.http.httptools_impl import RequestResponseCycle

EXTENSION = "http.response.zerocopysend"


class ZeroCopy:
    """Sends for one request and its answer: what the server can, and files."""

    def __init__(self, cycle: RequestResponseCycle) -> None:
        self._cycle, self._plain = cycle, cycle.send

    async def send(self, message: Message) -> None:
        """As ASGI has it: ``file`` is a descriptor, ``offset`` and ``count`` are bytes."""
        if message["type"] != EXTENSION:
            await self._plain(message)  # type: ignore[arg-type]
            return
        cycle, count = self._cycle, message["count"]
        if self._stands():
            await self._all_is_sent()
        if self._stands():
            cycle.expected_content_length -= count
            with suppress(ConnectionError):  # the server notices by itself
                await self._send_file(message["file"], message["offset"], count)
        if not message.get("more_body", False):
            await self._plain({"type": "http.response.body", "body": b"", "more_body": False})

    async def _all_is_sent(self) -> None:
        """Waits until nothing is left that was written before."""
        transport, flow = self._cycle.transport, self._cycle.flow
        transport.set_write_buffer_limits(0)
        try:
            if flow.write_paused:
                await flow.drain()
        finally:
            if self._stands():
                transport.set_write_buffer_limits()

    def _stands(self) -> bool:
        return not (self._cycle.disconnected or self._cycle.transport.is_closing())

    async def _send_file(self, file: int, offset: int, count: int) -> None:
        line = os.dup(self._cycle.transport.get_extra_info("socket").fileno())
        try:
            while count and self._stands():
                try:
                    sent = os.sendfile(line, file, offset, count)
                except BlockingIOError:
                    await _writable(line)
                    continue
                if not sent:
                    raise RuntimeError("the file is shorter than it was")
                offset, count = offset + sent, count - sent
        finally:
            os.close(line)


async def _writable(line: int) -> None:
    """Waits until the network takes more. A connection that was lost counts: to write to it says so."""
    loop = asyncio.get_running_loop()
    ready = asyncio.Event()
    loop.add_writer(line, ready.set)
    try:
        await ready.wait()
    finally:
        loop.remove_writer(line)
