"""Readings a second through HTTP, over raw COPY of the same rows; and a halt while twenty thousand a second come in."""

import asyncio
import os
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import asyncpg
import uvloop
from sqlalchemy.engine import make_url

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure
from mellow_herald.client import Herald
from mellow_herald.store.cluster import Cluster
from mellow_herald.store.readings.landing import COLUMNS
from tests.harness.crowd import Crowd, Member, prepare

DEVICES, LINES, SECONDS, ROUNDS = 64, 64, 4.0, 3
SIGNALS, PERIOD_S, MINUTES = ("battery", "temperature", "humidity", "weight"), 1, 5
SAMPLES = len(SIGNALS) * MINUTES * 60 // PERIOD_S
"""Of one call: what a device has after five minutes of four signals at one a second."""
TABLE = (
    "CREATE TABLE floor_landed (id bigserial PRIMARY KEY, device_id bigint NOT NULL, signal_id int NOT NULL,"
    " at timestamptz NOT NULL, offsets int[] NOT NULL, vals float8[], texts text[])",
    "CREATE INDEX ON floor_landed (device_id, signal_id)",
)


def measure() -> list[Figure]:
    """The service (one worker) and PostgreSQL on core 0, the devices on core 1; the median of alternating rounds. The
    floor writes the rows of sixteen calls in one transaction over one connection, and knows them beforehand."""
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.sched_setaffinity(0, {cores[0]})
        cluster = Cluster(folder / "postgres")
        cluster.start()
        try:
            port = free_port()
            serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
            serve += ["--database-url", cluster.url]
            with running(serve, cores[0], port):
                os.sched_setaffinity(0, {cores[-1]})
                ours, floors = uvloop.run(_play(port, cluster.url))
        finally:
            os.sched_setaffinity(0, cores)
            cluster.stop()
    ratios = sorted(one / floor for one, floor in zip(ours, floors, strict=True))
    measured = {"samples a second": sorted(ours)[ROUNDS // 2], "by COPY": sorted(floors)[ROUNDS // 2]}
    return [
        Figure("readings written through HTTP ÷ raw COPY of the same rows", ratios[ROUNDS // 2], ">= 0.4", measured)
    ]


async def _play(port: int, database_url: str) -> tuple[list[float], list[float]]:
    with Herald(f"http://127.0.0.1:{port}") as herald:
        herald.people.sign_in("admin", PASSWORD)
        token = herald.people.make_token().token
    with Herald(f"http://127.0.0.1:{port}", token=token) as herald:
        code = prepare(herald, DEVICES)
    crowd = Crowd(port, DEVICES)
    await crowd.open(LINES)
    await crowd.each(crowd.members, lambda member: crowd.enrol(member, code))
    url = make_url(database_url).set(drivername="postgresql").render_as_string(hide_password=False)
    bare = await asyncpg.connect(url)
    for statement in TABLE:
        await bare.execute(statement)
    pouring, ours, floors = Pouring(crowd, crowd.members), list[float](), list[float]()
    for _ in range(ROUNDS):
        floors.append(await _copied(bare))
        ours.append(await pouring.rate(SECONDS))
    await bare.close()
    crowd.close()
    return ours, floors


async def _copied(bare: Any) -> float:
    """Samples a second by COPY alone, over one connection."""
    began = time.monotonic()
    said = 0
    while time.monotonic() < began + SECONDS:
        start = datetime.now(UTC).replace(second=0, microsecond=0) + timedelta(minutes=said)
        rows = [
            (device, signal, start + timedelta(minutes=minute), _OFFSETS, _VALUES, None)
            for device in range(16)
            for signal in range(len(SIGNALS))
            for minute in range(MINUTES)
        ]
        async with bare.transaction():
            await bare.copy_records_to_table("floor_landed", records=rows, columns=COLUMNS)
        said += 16
    return said * SAMPLES / (time.monotonic() - began)


_OFFSETS = [1000 * PERIOD_S * number for number in range(60 // PERIOD_S)]
_VALUES = [20 + number / 8 for number in range(60 // PERIOD_S)]


class Pouring:
    """Devices that send what they have one call after the other; each call has times of its own."""

    def __init__(self, crowd: Crowd, members: list[Member]) -> None:
        self._crowd, self._members = crowd, members
        self._first = time.time() - 86_400
        self._after = [1000 * PERIOD_S * number for number in range(MINUTES * 60 // PERIOD_S)]
        self._values = {name: [20 + number / 8 for number in range(len(self._after))] for name in SIGNALS}
        self._calls: dict[str, int] = {}
        self.refused = 0

    async def send(self, member: Member) -> int:
        """One call; returns how many samples were taken. One that is told to come later is counted as refused."""
        call = self._calls[member.token] = self._calls.get(member.token, -1) + 1
        at = self._first + call * MINUTES * 60 % 80_000 + call // 250
        said = {"blocks": [{"at": at, "after_ms": self._after, "values": self._values}]}
        status, answer = await self._crowd.post(member, "/readings", said)
        if status != 200:
            self.refused += 1
            return 0
        return int(answer["taken"])

    async def rate(self, seconds: float) -> float:
        """Samples a second that are durable when they are answered, as fast as it goes."""
        began = time.monotonic()

        async def go_on(member: Member) -> int:
            taken = 0
            while time.monotonic() < began + seconds:
                taken += await self.send(member)
            return taken

        return sum(await asyncio.gather(*map(go_on, self._members))) / (time.monotonic() - began)

    async def steadily(self, samples_a_second: float, over: asyncio.Event) -> float:
        """So many samples a second until it is ``over``; returns how many there were."""
        began = due = time.monotonic()
        taken, turn = 0, 0
        async with asyncio.TaskGroup() as group:
            tasks = []
            while not over.is_set():
                tasks.append(group.create_task(self.send(self._members[turn % len(self._members)])))
                turn += 1
                due += SAMPLES / samples_a_second
                await asyncio.sleep(max(0.0, due - time.monotonic()))
        taken = sum(task.result() for task in tasks)
        return taken / (time.monotonic() - began)
