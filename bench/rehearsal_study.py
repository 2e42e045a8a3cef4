"""A rehearsal held to the truth: simulated fleets are rehearsed, and then really updated; how often is what happens
within the fan?

    python -m bench.rehearsal_study --fleets 20

Each fleet has a service, a database and 200 simulated devices of its own, in fast time; three plans are tried on as
many fleets each, side by side and step by step, so that none is measured while another is made ready. It takes about
ten minutes for three, on a machine that does nothing else (or what is measured is its processors, not the fleet), and
is no part of `make bench`.
"""

import argparse
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from bench.checkins import PASSWORD, free_port
from mellow_herald.client import Herald, HeraldError
from mellow_herald.core.behaviour import Behaviour, Fault
from mellow_herald.demo import scenario
from mellow_herald.demo.provision import provision
from mellow_herald.demo.scenario import Place
from mellow_herald.service.rollouts.report_rehearsal import numbers, within
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rehearsal import RehearsalIn, RehearsedFault, TimeSpread
from mellow_herald.wire.rollout import RolloutOut

DEVICES, SPEED, LONGEST_S = 200, 10, 1800.0
# What the fleet was updated to before, as a fleet that has a history was.
BEFORE = "2.4.1"
HERALD = [sys.executable, "-m", "mellow_herald.cli.main"]
RINGS = [
    {"name": "first", "count": 20, "soak": "5m", "enough": 0.8},
    {"name": "third", "share": 0.3, "soak": "5m", "enough": 0.8},
    {"name": "rest", "soak": "5m", "enough": 0.8},
]


@dataclass(frozen=True, slots=True)
class Trial:
    """A plan, and the fault that its release really has: per mille of all devices."""

    name: str
    crashes: int
    more: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Seen:
    """Something that came to pass, and whether it did within the fan."""

    what: str
    good: bool
    words: str


TRIALS = (
    Trial("no fault", 0, {}),
    Trial("5 % crash, at most 10 at risk", 50, {"pace": {"at_risk_at_once": 10}, "brake": {"firmware_limit": 0.2}}),
    Trial("3 % crash, a harm budget of 20", 30, {"harm": {"at_most": 20}, "brake": {"firmware_limit": 0.2}}),
)


def main() -> None:
    """Plays, and prints the shares within the fan."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--fleets", type=int, default=20, help="for each of the three plans")
    parser.add_argument("--first", type=int, default=1, help="number of the first fleet, to go on where one left off")
    asked = parser.parse_args()
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))  # each ends what it has started
    inside: Counter[str] = Counter()
    total: Counter[str] = Counter()
    for seed in range(asked.first, asked.first + asked.fleets):
        for trial, seen in zip(TRIALS, _side_by_side(seed), strict=True):
            print(f"{trial.name}, fleet {seed}")
            for one in seen:
                total[f"{trial.name}: {one.what}"] += 1
                inside[f"{trial.name}: {one.what}"] += one.good
                print(f"  {'within ' if one.good else 'OUTSIDE'} {one.what}: {one.words}", flush=True)
    for name, count in total.items():
        print(f"{name}: {inside[name] / count:.0%} of {count} within 10-90 % (wanted 65-95 %)")
    share = inside.total() / total.total()
    print(f"all: {share:.0%} of {total.total()} within 10-90 % (wanted 65-95 %)")


def _side_by_side(seed: int) -> list[list[Seen]]:
    """What came to pass of each plan, each with a fleet of its own, no one a step ahead of another."""
    steps = threading.Barrier(len(TRIALS))

    def one(trial: Trial) -> list[Seen]:
        try:
            return _try(trial, seed, steps)
        except BaseException:
            steps.abort()  # the others end, too
            raise

    with ThreadPoolExecutor(len(TRIALS)) as pool:
        return list(pool.map(one, TRIALS))


def _try(trial: Trial, seed: int, steps: threading.Barrier) -> list[Seen]:
    """One fleet: its rings' ends and the count of hurt devices, each with whether it was within the fan."""
    with tempfile.TemporaryDirectory(prefix="herald-study-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        port, place = free_port(), Place(folder / "demo")
        url, processes = f"http://127.0.0.1:{port}", []
        try:
            serve = ["serve", "--data-dir", str(folder / "data"), "--port", str(port), "--time-scale", str(SPEED)]
            processes.append(_start(serve))
            herald = _signed_in(url)
            _prepare(herald, place, trial, seed)
            where = ["--url", url, "--data-dir", str(place.flash)]
            processes.append(_start(["sim", "run", str(place.scenario), *where]))
            _until(lambda: (herald.overview().presence.get("online") or 0) >= DEVICES)
            steps.wait()
            before = f"{scenario.BOARD}/{scenario.LINE}/{BEFORE}"
            # A few at once: what is measured of them is to be their links, not this machine's processors.
            few = {"downloading_at_once": 8, "at_risk_at_once": 8}
            at_once = [{"name": "all", "soak": "1m"}]
            _update(herald, {"name": "before", "release": before, "rings": at_once, "pace": few})
            steps.wait()
            return _compare(herald, trial, steps)
        finally:
            for process in reversed(processes):
                process.terminate()
                process.wait()


def _plan(what: dict[str, Any]) -> PlanDocument:
    target = f"board = {scenario.BOARD} and serial != {scenario.LAB_UNIT}"
    return PlanDocument.model_validate({"target": target, "numbers": {"retries": 0, "trial_for": "60s"}, **what})


def _update(herald: Herald, what: dict[str, Any]) -> RolloutOut:
    rollout_id = herald.rollouts.start(_plan(what)).id
    _until(lambda: _is_over(herald.rollouts.show(rollout_id)))
    return herald.rollouts.show(rollout_id)


def _compare(herald: Herald, trial: Trial, steps: threading.Barrier) -> list[Seen]:
    what = {"name": trial.name, "release": scenario.FIXED_RELEASE, "rings": RINGS, **trial.more}
    fault = f"{trial.crashes / 1000:g} crashed" if trial.crashes else "none"
    made = herald.rehearsals.ask(RehearsalIn.model_validate({"plan": _plan(what), "faults": [fault]}))
    _until(lambda: herald.rehearsals.show(made.id).state in ("done", "failed"))
    done = herald.rehearsals.show(made.id)
    if done.result is None:
        raise RuntimeError(f"rehearsal {done.id}: {done.why}")
    steps.wait()
    rollout = _update(herald, what)
    assert rollout.started_at is not None
    return list(_inside(rollout, done.result.faults[0], rollout.started_at - done.asked_at))


def _inside(rollout: RolloutOut, fault: RehearsedFault, shift: timedelta) -> Iterator[Seen]:
    for ring, foreseen in zip(rollout.rings, fault.rings, strict=True):
        words = f"{_clock(ring.done_at)}, foretold {_clocks(foreseen.ends, shift)}"
        yield Seen(f"end of ring {ring.name}", bool(within(ring.done_at, foreseen.ends, shift)), words)
    hurt = fault.hurt
    good = hurt.low <= rollout.ever_bad <= hurt.high
    yield Seen("devices hurt", good, f"{rollout.ever_bad}, foretold {numbers(hurt)}")


def _clock(at: datetime | None) -> str:
    return "never" if at is None else f"{at:%H:%M:%S}"


def _clocks(spread: TimeSpread, shift: timedelta) -> str:
    times = (spread.low, spread.middle, spread.high)
    return " … ".join(_clock(None if at is None else at + shift) for at in times)


def _is_over(rollout: RolloutOut) -> bool:
    return rollout.state in ("halted", "finished") or rollout.stands_still is not None


def _start(arguments: list[str]) -> "subprocess.Popen[bytes]":
    environment = {**os.environ, "HERALD_ADMIN_PASSWORD": PASSWORD}
    return subprocess.Popen(
        [*HERALD, *arguments], env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )


def _signed_in(url: str) -> Herald:
    def ready() -> bool:
        with suppress(HeraldError), Herald(url) as herald:
            return herald.ready().ok
        return False

    _until(ready)
    with Herald(url) as herald:
        herald.people.sign_in("admin", PASSWORD)
        return Herald(url, token=herald.people.make_token().token)


def _prepare(herald: Herald, place: Place, trial: Trial, seed: int) -> None:
    scenario.write_files(place, seed=seed, devices=DEVICES)
    faults = [Behaviour(f"board = {scenario.BOARD}", Fault.CRASH_AT_BOOT, trial.crashes)] if trial.crashes else []
    place.firmware(scenario.FIXED).write_bytes(scenario.make_image(scenario.FIXED, seed, faults=faults))
    place.firmware(BEFORE).write_bytes(scenario.make_image(BEFORE, seed))
    versions = (scenario.OLD, BEFORE, scenario.FIXED)
    provision(herald, place, devices=DEVICES, others=40, seed=seed, versions=versions)


def _until(wanted: Any) -> None:
    deadline = time.monotonic() + LONGEST_S
    while not wanted():
        if time.monotonic() > deadline:
            raise RuntimeError("it did not come to pass in time")
        time.sleep(0.5)


if __name__ == "__main__":
    main()
