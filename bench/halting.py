"""From the report that tips the brake to the halt committed, while a thousand reports a second come in."""

import asyncio
import tempfile
import time
from pathlib import Path

import uvloop

from bench.checkins import PASSWORD, free_port, running
from bench.figure import Figure
from bench.readings import Pouring
from mellow_herald.client import AsyncHerald, Herald
from mellow_herald.core.brake import Tally, Watch, halts_at, read_brake
from mellow_herald.core.plan import BrakeKind
from tests.harness.crowd import OLD, Crowd, Member, plan, prepare

LOADING, EXPOSED, ROUNDS = 1000, 40, 5
DEVICES = LOADING + ROUNDS * EXPOSED
REPORTS_A_SECOND, WORKERS = 1000, 2
LIMIT, ALPHA = 0.02, 0.05
LINES = 200
WATCHED_S, NEVER_S = 2.0, 60.0
LOOKS_S = 0.02
SAMPLES_A_SECOND = 20_000


def measure() -> list[Figure]:
    """A service of two workers on loopback, the devices in this process; the median of five halts, each as it is seen
    through the API, which is a little after it was committed. The same once more while readings come in."""
    took, least, _ = _measured(0)
    beside, least_beside, poured = _measured(SAMPLES_A_SECOND)
    middle, middle_beside = took[ROUNDS // 2], beside[ROUNDS // 2]
    alone = {"ms": 1000 * middle, "ms of the slowest": 1000 * took[-1], "least reports a second": least}
    loaded = {
        "ms": 1000 * middle_beside,
        "ms of the slowest": 1000 * beside[-1],
        "least reports a second": least_beside,
        "readings a second": poured,
    }
    words = "from the report that tips the brake to the halt committed"
    beside_words = f"the same while {SAMPLES_A_SECOND:,} readings a second come in"
    return [
        Figure(f"{words} ÷ 0.5 s", middle / 0.5, "<= 1", alone),
        Figure(f"{beside_words} ÷ without", middle_beside / middle, "<= 1.25", loaded),
        Figure("reports a second meanwhile ÷ without", least_beside / least, ">= 0.8"),
    ]


def _measured(samples: int) -> tuple[list[float], float, float]:
    """(seconds to each halt in order, the least reports a second meanwhile, readings a second)."""
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        port = free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running([*serve, "--workers", str(WORKERS)], None, port):
            found, poured = uvloop.run(_play(port, samples))
    return sorted(one for one, _ in found), min(rate for _, rate in found), poured


async def _play(port: int, samples: int) -> tuple[list[tuple[float, float]], float]:
    url = f"http://127.0.0.1:{port}"
    with Herald(url) as herald:
        herald.people.sign_in("admin", PASSWORD)
        token = herald.people.make_token().token
    with Herald(url, token=token) as herald:
        code = prepare(herald, DEVICES)
    crowd = Crowd(port, DEVICES)
    await crowd.open(LINES + 8)
    await crowd.each(crowd.members, lambda member: crowd.enrol(member, code))
    await crowd.each(crowd.members, crowd.check_in)
    loading, others = crowd.members[:LOADING], crowd.members[LOADING:]
    found, over = [], asyncio.Event()
    poured = asyncio.create_task(Pouring(crowd, loading).steadily(samples, over)) if samples else None
    async with AsyncHerald(url, token=token) as watcher:
        for turn in range(ROUNDS):
            found.append(await _halt_once(watcher, crowd, loading, others[turn * EXPOSED :][:EXPOSED]))
    over.set()
    rate = 0.0 if poured is None else await poured
    crowd.close()
    return found, rate


async def _halt_once(
    herald: AsyncHerald, crowd: Crowd, loading: list[Member], others: list[Member]
) -> tuple[float, float]:
    """(seconds to the halt, reports a second meanwhile): most devices say how far their download is, the others run
    the release and crash one after the other."""
    document = plan(brake={"firmware_limit": LIMIT, "alpha": ALPHA, "watch_by": []})
    rollout_id = (await herald.rollouts.start(document)).id
    while (await herald.rollouts.show(rollout_id)).rings[0].state != "open":
        await asyncio.sleep(LOOKS_S)
    await crowd.each(loading, crowd.check_in)
    await crowd.each(others, crowd.stage)
    await crowd.each(others, crowd.check_in)
    over = asyncio.Event()
    load = asyncio.create_task(_load(crowd, loading, over))
    tipping = _tipping()
    for number, member in enumerate(others[:tipping], 1):
        await asyncio.sleep(WATCHED_S / tipping)
        if number == tipping and (await herald.rollouts.show(rollout_id)).state != "running":
            raise RuntimeError("the brake halted before the report that should tip it")
        began = time.monotonic()
        await crowd.report(member, "proving")
        await crowd.report(member, "reverted", reason="crashed")
    while (await herald.rollouts.show(rollout_id)).state != "halted":
        if time.monotonic() > began + NEVER_S:
            raise RuntimeError(f"no halt within {NEVER_S:.0f} s")
        await asyncio.sleep(LOOKS_S)
    took = time.monotonic() - began
    over.set()
    rate = await load
    await _end(herald, crowd, rollout_id, others)
    return took, rate


def _tipping() -> int:
    """The number of the crash that tips the brake when all others are exposed and have not failed."""
    watch, halt = Watch(1, {}), halts_at(1, ALPHA)
    for bad in range(1, EXPOSED + 1):
        if read_brake(BrakeKind.FIRMWARE, [Tally(0, {}, EXPOSED, bad)], watch, LIMIT, halt).halts:
            return bad
    raise RuntimeError("the brake would never halt")


async def _load(crowd: Crowd, members: list[Member], over: asyncio.Event) -> float:
    """A steady thousand reports a second, as long as the service keeps up; how many there were, a second."""
    began = due = time.monotonic()
    said, on_the_wire = 0, asyncio.Semaphore(LINES)

    async def say(member: Member, percent: int) -> None:
        try:
            await crowd.report(member, "downloading", step="fetch", percent=percent)
        finally:
            on_the_wire.release()

    async with asyncio.TaskGroup() as group:
        while not over.is_set():
            await on_the_wire.acquire()  # who reports waits for its answer: a slow service is told less
            group.create_task(say(members[said % len(members)], 1 + said // len(members) % 98))
            said += 1
            due += 1 / REPORTS_A_SECOND
            if due > time.monotonic():
                await asyncio.sleep(due - time.monotonic())
        return said / (time.monotonic() - began)


async def _end(herald: AsyncHerald, crowd: Crowd, rollout_id: int, others: list[Member]) -> None:
    """Those still at risk go back too, so that the next round finds every device as it was."""
    for member in others:
        if member.boots_image != OLD:
            await crowd.report(member, "reverted", reason="crashed")
            member.boots_image, member.standby = OLD, None
    while (await herald.rollouts.show(rollout_id)).live:
        await asyncio.sleep(LOOKS_S)
    await herald.rollouts.cancel(rollout_id, "measured")
