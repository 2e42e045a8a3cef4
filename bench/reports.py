"""Reports a second that are durable when they are answered, over one transaction for each."""

import asyncio
import os
import tempfile
import time
from pathlib import Path

import uvloop
from sqlalchemy import text

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure
from mellow_herald.client import Herald
from mellow_herald.store.cluster import Cluster
from mellow_herald.store.database import make_engine
from tests.harness.crowd import Crowd, plan, prepare

DEVICES, SECONDS, ROUNDS = 256, 4.0, 3
TABLES = (
    "CREATE TABLE floor_attempt (id bigint PRIMARY KEY, state text NOT NULL, percent int NOT NULL)",
    "CREATE TABLE floor_event (id bigserial PRIMARY KEY, attempt_id bigint NOT NULL, said jsonb NOT NULL)",
    f"INSERT INTO floor_attempt SELECT g, 'offered', 0 FROM generate_series(1, {DEVICES}) g",
)


def measure() -> Figure:
    """Both servers and PostgreSQL on core 0, the devices on core 1; the median of alternating rounds."""
    cores = sorted(os.sched_getaffinity(0))
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.sched_setaffinity(0, {cores[0]})
        cluster = Cluster(folder / "postgres")
        cluster.start()
        try:
            asyncio.run(_make_tables(cluster.url))
            port, floor_port = free_port(), free_port()
            serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
            serve += ["--database-url", cluster.url]
            floor = ["-m", "bench.reports_floor", str(floor_port), cluster.url]
            with running(serve, cores[0], port), running(floor, cores[0], floor_port):
                os.sched_setaffinity(0, {cores[-1]})
                ours, floors = uvloop.run(_play(port, floor_port))
        finally:
            os.sched_setaffinity(0, cores)
            cluster.stop()
    ratios = sorted(one / floor for one, floor in zip(ours, floors, strict=True))
    measured = {"reports a second": sorted(ours)[ROUNDS // 2], "one each": sorted(floors)[ROUNDS // 2]}
    return Figure("durable reports a second ÷ one transaction each", ratios[ROUNDS // 2], ">= 4", measured)


async def _make_tables(url: str) -> None:
    engine = make_engine(url, 1, 0)
    async with engine.begin() as connection:
        for statement in TABLES:
            await connection.execute(text(statement))
    await engine.dispose()


async def _play(port: int, floor_port: int) -> tuple[list[float], list[float]]:
    with Herald(f"http://127.0.0.1:{port}") as herald:
        herald.people.sign_in("admin", PASSWORD)
        token = herald.people.make_token().token
    with Herald(f"http://127.0.0.1:{port}", token=token) as herald:
        code = prepare(herald, DEVICES)
        crowd, bare = Crowd(port, DEVICES), Crowd(floor_port, DEVICES)
        for one in (crowd, bare):
            await one.open(DEVICES)
        await crowd.each(crowd.members, lambda member: crowd.enrol(member, code))
        await crowd.each(crowd.members, crowd.check_in)
        rollout_id = herald.rollouts.start(plan()).id
        while herald.rollouts.show(rollout_id).rings[0].state != "open":
            await asyncio.sleep(0.05)
        await crowd.each(crowd.members, crowd.check_in)
    for number, member in enumerate(bare.members, 1):
        member.attempt = number
    ours, floors = [], []
    for _ in range(ROUNDS):
        floors.append(await _rate(bare))
        ours.append(await _rate(crowd))
    for one in (crowd, bare):
        one.close()
    return ours, floors


async def _rate(crowd: Crowd) -> float:
    """Reports a second, each device saying one after the other how far its download is."""
    ends, said = time.monotonic() + SECONDS, 0

    async def go_on(number: int) -> None:
        nonlocal said
        member, percent = crowd.members[number], 0
        while time.monotonic() < ends:
            percent = percent % 99 + 1
            await crowd.report(member, "downloading", step="fetch", percent=percent)
            said += 1

    began = time.monotonic()
    await asyncio.gather(*(go_on(number) for number in range(DEVICES)))
    return said / (time.monotonic() - began)
