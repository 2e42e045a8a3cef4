"""A bench test in this process, for a device that runs in a thread or a process of its own."""

import asyncio
import threading
from collections.abc import Callable, Sequence
from pathlib import Path

from mellow_herald.bench_test.bench import Bench, Hand
from mellow_herald.bench_test.course import COURSE
from mellow_herald.bench_test.desk import Desk
from mellow_herald.bench_test.releases import Keys, open_root
from mellow_herald.bench_test.running import go_through
from mellow_herald.bench_test.station import Finding, NotTriedError
from tests.harness.firmware import DOMAIN, load_image, make_bytes

CODE, SCALE = "bench-code", 20.0
FAILING = b"its self-test fails"
Words = Callable[[str], str]


class Fingers(Hand):
    """Does what a test says instead of asking anybody."""

    def __init__(self, do: Words) -> None:
        super().__init__(None)
        self._do = do

    async def do(self, word: str, question: str) -> str:
        return await asyncio.to_thread(self._do, word)


def nothing_to_see(word: str) -> str:
    raise NotTriedError(f"nobody does {word}")


def go(
    folder: Path,
    start: Callable[[str, Path], Callable[[], None]],
    stations: Sequence[str] = (),
    do: Words = nothing_to_see,
    patience_s: float = 60.0,
    failing: bytes = make_bytes("2.7.0") + FAILING,
    good: Sequence[bytes] = tuple(make_bytes(version) for version in ("2.5.0", "2.6.0", "2.8.0")),
) -> dict[str, Finding]:
    """Takes the device that ``start`` starts, given URL and public root key, through stations (all of them if none is
    named); findings by station. What it returns stops the device."""
    chosen = [one for one in COURSE if not stations or one.name in stations]

    async def run() -> list[Finding]:
        keys = Keys(open_root(folder / "keys"))
        (folder / "keys" / "keys.cose").write_bytes(keys.key_list())
        desk = Desk(CODE, keys, SCALE)
        bench = Bench(
            desk, keys, DOMAIN, [load_image(one) for one in good], load_image(failing), Fingers(do), patience_s
        )
        port = await desk.server.start("127.0.0.1", 0)
        stop = start(f"http://127.0.0.1:{port}", folder / "keys" / "root.pub.pem")
        try:
            return await go_through(bench, chosen)
        finally:
            await desk.server.close()
            await asyncio.to_thread(stop)

    return {one.name: one for one in asyncio.run(run())}


class Threaded:
    """A device that lives in a thread until it is told to stop."""

    def __init__(self, live: Callable[[threading.Event], None]) -> None:
        self._over = threading.Event()
        self._thread = threading.Thread(target=live, args=(self._over,), daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._over.set()
        self._thread.join(30)
