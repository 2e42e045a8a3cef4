"""The network between devices and service: it can be cut, stand still, or be slow; and it counts the answers."""

import asyncio
import re
import threading
import time
from collections import Counter

from tests.harness.patience import PATIENCE_S

STATUS = re.compile(rb"HTTP/1\.1 (\d\d\d)[^\r]*\r\n(.*?)\r\n\r\n", re.DOTALL)
PIECE = 64 * 1024


class Relay:
    """Passes connections on to a port of this machine. ``answers`` counts what came back, by status; ``bare`` are
    refusals for want of something (5xx) that do not say when to come again."""

    def __init__(self, target: int) -> None:
        self.answers: Counter[int] = Counter()
        self.bare: list[str] = []
        self.port = 0
        self._target = target
        self._rate: float | None = None
        self._still = False
        self._ends: set[asyncio.StreamWriter] = set()
        self._loop = asyncio.new_event_loop()
        ready = threading.Event()
        threading.Thread(target=self._run, args=(ready,), daemon=True).start()
        assert ready.wait(PATIENCE_S)

    def cut(self) -> None:
        """Every connection ends at this moment."""
        self._loop.call_soon_threadsafe(self._cut)

    def stand_still(self, seconds: float) -> None:
        """Nothing comes through any more, and nobody is told; then all that was open ends."""
        self._still = True
        time.sleep(seconds)
        self.cut()
        self._still = False

    def slow_down(self, seconds: float, rate: float) -> None:
        """Devices read with so many bytes a second each."""
        self._rate = rate
        time.sleep(seconds)
        self._rate = None

    def stop(self) -> None:
        """Ends it."""
        self._loop.call_soon_threadsafe(self._loop.stop)

    def _cut(self) -> None:
        for end in self._ends:
            end.transport.abort()

    def _run(self, ready: threading.Event) -> None:
        async def listen() -> None:
            server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
            self.port = server.sockets[0].getsockname()[1]
            ready.set()

        self._loop.run_until_complete(listen())
        self._loop.run_forever()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._ends.add(writer)
        there = None
        try:
            back, there = await asyncio.open_connection("127.0.0.1", self._target)
            self._ends.add(there)
            passing = [self._pass(reader, there), self._pass(back, writer, count=True)]
            await asyncio.wait([asyncio.ensure_future(one) for one in passing], return_when=asyncio.FIRST_COMPLETED)
        except OSError:
            pass  # the service is away: so is the connection
        finally:
            for end in (writer, there):
                if end is not None:
                    self._ends.discard(end)
                    end.close()

    async def _pass(self, come: asyncio.StreamReader, go: asyncio.StreamWriter, *, count: bool = False) -> None:
        try:
            while piece := await come.read(PIECE):
                while self._still:
                    await asyncio.sleep(0.05)
                if count:
                    self._note(piece)
                    if self._rate is not None:
                        await asyncio.sleep(len(piece) / self._rate)
                go.write(piece)
                await go.drain()
        except OSError:
            pass

    def _note(self, piece: bytes) -> None:
        for status, headers in STATUS.findall(piece):
            self.answers[int(status)] += 1
            if int(status) >= 500 and (int(status) != 503 or b"retry-after" not in headers.lower()):
                self.bare.append(f"{int(status)}: {headers.decode(errors='replace')[:200]}")
