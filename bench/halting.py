"""From the report that tips the brake to the halt committed, while a thousand reports a second come in; and what group
commit gains."""

import asyncio
import contextlib
import tempfile
import time
from pathlib import Path

import uvloop
from tests.harness.crowd import Crowd, Member
from tests.system.test_halt import plan, prepare

from bench.checkins import free_port, running
from bench.figure import Figure
from mellow_herald.client import Herald

DEVICES, LOADING, REPORTS_A_SECOND, SECONDS = 1600, 1200, 1000, 6.0
WORKERS, ROUNDS = 2, 3


def measure() -> list[Figure]:
    """A service of two workers on loopback; the median of three halts."""
    with tempfile.TemporaryDirectory(prefix="herald-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        port = free_port()
        serve = ["-m", "mellow_herald.cli.main", "serve", "--data-dir", str(folder), "--port", str(port)]
        with running([*serve, "--workers", str(WORKERS)], None, port):
            took, rates = zip(*uvloop.run(_play(port)), strict=True)
    middle = sorted(took)[ROUNDS // 2]
    return [
        Figure(
            "from the report that tips the brake to the halt committed ÷ 1.5 s", middle / 1.5, "<= 1",
            {"ms": 1000 * middle, "slowest ms": 1000 * max(took), "reports a second meanwhile": min(rates)},
        )
    ]  # fmt: skip


async def _play(port: int) -> list[tuple[float, float]]:
    url = f"http://127.0.0.1:{port}"
    with Herald(url) as herald:
        herald.people.sign_in("admin", "only-for-the-bench")
        token = herald.people.make_token().token
    herald, crowd = Herald(url, token=token), Crowd(port, DEVICES)
    code = prepare(herald)
    await crowd.open()
    await crowd.each(crowd.members, lambda member: crowd.enrol(member, code))
    await crowd.each(crowd.members, crowd.check_in)
    found = []
    for turn in range(ROUNDS):
        found.append(await _halt_once(herald, crowd, turn))
    crowd.close()
    return found


async def _halt_once(herald: Herald, crowd: Crowd, turn: int) -> tuple[float, float]:
    """Most devices go on reporting how far their download is; a few others crash, one after the other."""
    document = plan(name=f"round {turn}")
    rollout_id = (await asyncio.to_thread(herald.rollouts.start, document)).id
    while (await asyncio.to_thread(herald.rollouts.show, rollout_id)).rings[0].state != "open":
        await asyncio.sleep(0.1)
    loading, others = crowd.members[:LOADING], crowd.members[LOADING + 100 * turn : LOADING + 100 * turn + 8]
    await crowd.each(loading, crowd.check_in)
    await crowd.each(others, crowd.stage)
    await crowd.each(others, crowd.check_in)
    over = asyncio.Event()
    load = asyncio.create_task(_load(crowd, loading, over))
    await asyncio.sleep(SECONDS / 2)
    halted = asyncio.create_task(_halted(herald, rollout_id))
    tipped = time.monotonic()
    for member in others:
        if halted.done():
            break
        tipped = time.monotonic()
        await crowd.report(member, "proving")
        await crowd.report(member, "reverted", reason="crashed")
        with contextlib.suppress(TimeoutError):
            # Each is given the time in which the brake would halt if it were the one that tips it.
            await asyncio.wait_for(asyncio.shield(halted), 1.0)
    committed = await halted
    over.set()
    reports, seconds = await load
    await asyncio.to_thread(_end, herald, rollout_id)
    return max(0.0, committed - tipped), reports / seconds


async def _halted(herald: Herald, rollout_id: int) -> float:
    """When the halt was seen, which is a little after it was committed."""
    while (await asyncio.to_thread(herald.rollouts.show, rollout_id)).state != "halted":
        await asyncio.sleep(0.01)
    return time.monotonic()


async def _load(crowd: Crowd, members: list[Member], over: asyncio.Event) -> tuple[int, float]:
    """A steady thousand reports a second, as long as the service keeps up."""
    began, before, percent, due = time.monotonic(), crowd.reports, 0, time.monotonic()
    while not over.is_set():
        percent += 1
        for at in range(0, len(members), 100):
            some = members[at : at + 100]
            said = {"step": "fetch", "percent": percent % 99}
            await asyncio.gather(*(crowd.report(member, "downloading", **said) for member in some))
            due += len(some) / REPORTS_A_SECOND
            await asyncio.sleep(max(0.0, due - time.monotonic()))
            if over.is_set():
                break
    return crowd.reports - before, time.monotonic() - began


def _end(herald: Herald, rollout_id: int) -> None:
    while herald.rollouts.show(rollout_id).live:
        time.sleep(0.1)
    herald.rollouts.cancel(rollout_id, "measured")
