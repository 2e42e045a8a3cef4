"""Four rings over many simulated devices, served by three workers of which one is killed again and again."""

import asyncio
import os
import random
import signal
import subprocess
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import func, select

from mellow_herald.client import Herald
from mellow_herald.core.attempt import AT_RISK, FETCHING, State
from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import scenario
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.store.cluster import Cluster
from mellow_herald.store.database import make_engine
from mellow_herald.store.tables import AttemptEvent, AttemptRow, HarmWave
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollout import RolloutOut
from tests.harness.flight import Flight

pytestmark = pytest.mark.system
DEVICES = int(os.environ.get("HERALD_TEST_DEVICES", "60"))
WORKERS = 3
# Narrow enough to be met in the last ring.
PACE = {"downloading": max(12, DEVICES // 5), "at risk": max(8, DEVICES // 8)}
KILLED = max(4, DEVICES // 100)
PATIENCE = 400 + 2 * DEVICES

PLAN = f"""
[[rings]]
name = "bench"
where = "has bench"
soak = "30s"
[[rings]]
name = "pilot"
count = 12
spread_over = ["hw_rev", "site"]
soak = "30s"
enough = 0.5
[[rings]]
name = "fifth"
share = 0.2
soak = "30s"
enough = 0.5
[[rings]]
name = "all"
soak = "30s"
[pace]
downloading_at_once = {PACE["downloading"]}
at_risk_at_once = {PACE["at risk"]}
[harm]
at_most = {max(12, DEVICES // 5)}
[brake]
firmware_limit = 0.4
min_good = 0
[numbers]
retries = 2
retry_pause = "30s"
answer_within = "20m"
trial_for = "10m"
"""


def children(process: subprocess.Popen[bytes]) -> list[int]:
    listed = Path(f"/proc/{process.pid}/task/{process.pid}/children").read_text().split()
    names = {int(pid): Path(f"/proc/{pid}/cmdline").read_bytes() for pid in listed if Path(f"/proc/{pid}").exists()}
    return [pid for pid, name in names.items() if b"serve" in name]


def follow(
    herald: Herald, rollout_id: int, parent: subprocess.Popen[bytes], rng: random.Random
) -> tuple[RolloutOut, Counter[str]]:
    """Waits until the rollout has ended, and kills a worker now and then; how it ended, and the most that was under way
    at once as it looked from outside."""
    seen: Counter[str] = Counter()
    deadline, killed, at = time.monotonic() + PATIENCE, 0, time.monotonic() + 3
    while True:
        shown = herald.rollouts.show(rollout_id)
        seen |= Counter({"downloading": shown.downloading, "at risk": shown.at_risk})
        if shown.state == "finished":
            print(f"{killed} workers were killed")
            return shown, seen
        assert shown.state == "running" and time.monotonic() < deadline, shown.model_dump_json(indent=1)
        if killed < KILLED and time.monotonic() > at:
            workers = children(parent)
            if len(workers) == WORKERS:
                os.kill(rng.choice(workers), signal.SIGKILL)
                killed += 1
            at = time.monotonic() + rng.uniform(1, 6) * max(1, DEVICES / 200)
        time.sleep(0.2)


def test_four_rings_with_three_workers_of_which_one_dies_again_and_again(
    folder: Path,
) -> None:
    import tomllib

    flight, rng = Flight(folder, DEVICES), random.Random(5)
    try:
        parent = flight.serve("--workers", str(WORKERS))
        herald = flight.signed_in()
        flight.prepare(herald)
        flight.fly()
        flight.wait_online(herald, DEVICES)
        rings = tomllib.loads(PLAN)
        document = PlanDocument.model_validate(
            {"name": "rings", "release": scenario.FIXED_RELEASE, "target": f"board = {scenario.BOARD}", **rings}
        )
        preview = herald.rollouts.preview(document)
        assert len(preview.counts) == 4 and sum(preview.counts) == preview.eligible == DEVICES
        rollout_id = herald.rollouts.start(document, counts=preview.counts).id
        ended, seen = follow(herald, rollout_id, parent, rng)
        print(*[f"{e.at:%H:%M:%S} {e.what}" for e in reversed(herald.journal.list().items)], sep="\n")
        check_accounting(herald, ended, flight)
        check_pace(flight, seen)
        check_waves(flight, rollout_id)
    finally:
        flight.stop()


def check_pace(flight: Flight, seen: Counter[str]) -> None:
    """Nothing was handed out beyond the pace: the timelines, gone through in the order in which they were written.

    A device that goes on by its own word (after it was taken for silent, say) counts again at once, and may bring the
    count above the pace: what was ``seen`` from outside is above it by those alone, and no order is given then.
    """
    cluster = Cluster(flight.folder / "data" / "postgres")
    cluster.start()  # finds the one that runs
    states: dict[int, str] = {}
    under_way: Counter[str] = Counter()
    most: Counter[str] = Counter()
    by_themselves: Counter[str] = Counter()
    for moved in asyncio.run(timelines(cluster.url)):
        for kind, among in (("downloading", FETCHING), ("at risk", AT_RISK)):
            more = (moved.state in among) - (states.get(moved.attempt_id) in among)
            under_way[kind] += more
            by_themselves[kind] += more > 0 and moved.what != "order"
        states[moved.attempt_id] = moved.state
        if moved.what == "order":
            assert all(under_way[kind] <= PACE[kind] for kind in PACE), moved
        most |= under_way
    print("at once, at most:", dict(most), "of", PACE, "by their own word:", dict(by_themselves))
    assert most["downloading"] and most["at risk"]
    assert all(seen[kind] <= PACE[kind] + by_themselves[kind] for kind in PACE), seen


def check_waves(flight: Flight, rollout_id: int) -> None:
    """No wave of the harm budget was given to more than it may hold, by whichever worker; nobody without one."""
    cluster = Cluster(flight.folder / "data" / "postgres")
    cluster.start()

    async def read() -> tuple[dict[int, int], dict[int | None, int]]:
        engine = make_engine(cluster.url)
        async with engine.connect() as connection:
            sizes = await connection.execute(
                select(HarmWave.number, HarmWave.size).where(HarmWave.rollout_id == rollout_id)
            )
            exposed = (AttemptRow.rollout_id == rollout_id, AttemptRow.exposed_at.is_not(None))
            given = await connection.execute(
                select(AttemptRow.wave, func.count()).where(*exposed).group_by(AttemptRow.wave)
            )
            found = {row[0]: row[1] for row in sizes}, {row[0]: row[1] for row in given}
        await engine.dispose()
        return found

    sizes, given = asyncio.run(read())
    print("waves:", {number: f"{given.get(number, 0)} of {size}" for number, size in sizes.items()})
    assert len(sizes) >= 3 and None not in given
    assert all(given[number] <= sizes[number] for number in given if number is not None)


async def timelines(url: str) -> Sequence[Any]:
    """Every move of every attempt, in the order in which they were written."""
    moves = select(AttemptEvent.attempt_id, AttemptEvent.what, AttemptEvent.state).where(
        AttemptEvent.state.is_not(None), AttemptEvent.what != "late word"
    )
    engine = make_engine(url)
    async with engine.connect() as connection:
        found = (await connection.execute(moves.order_by(AttemptEvent.id))).all()
    await engine.dispose()
    return found


def check_accounting(herald: Herald, ended: RolloutOut, flight: Flight) -> None:
    """Every device is accounted for, in the service and in its own flash."""
    assert ended.targeted == sum(ended.passed_over.values()) + ended.never_given + sum(ended.states.values())
    assert ended.targeted == DEVICES + 1 and ended.passed_over == {"unknown-build": 1} and not ended.never_given
    assert [ring.targeted for ring in ended.rings] == [ring.planned for ring in ended.rings]
    old, new = (sha256_hex(flight.place.firmware(v).read_bytes()) for v in (scenario.OLD, scenario.FIXED))
    seen, after = 0, None
    while True:
        page = herald.rollouts.attempts(ended.id, limit=1000, after=after)
        for attempt in page.items:
            assert attempt.closed and not attempt.live and attempt.state not in AT_RISK
            _, digest = running_image(chip_path(flight.place.flash, attempt.serial))
            assert digest == (new if attempt.state is State.CONFIRMED else old), attempt
            seen += 1
        if page.next is None:
            break
        after = page.next
    assert seen == DEVICES
    worn = ended.states.get(State.REVERTED, 0)
    assert ended.states == {State.CONFIRMED: DEVICES - worn, State.REVERTED: worn} and worn == max(1, DEVICES // 100)
