"""PostgreSQL is killed, frozen, and its disk full, each while devices are between clearance and confirmation:
afterwards the service and the devices' flash agree, as the demo compares them."""

import os
import signal
import subprocess
import time
import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest

from mellow_herald.client import HeraldError
from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import scenario
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.store.cluster import Cluster
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollback import RollbackIn
from mellow_herald.wire.rollout import RolloutOut
from tests.system.test_flight import Flight, until
from tests.system.test_flight import folder as folder  # the fixture

pytestmark = [pytest.mark.system, pytest.mark.xdist_group("faults")]
DEVICES, BETWEEN = 24, 3
FROZEN_SECONDS = 40
PREPEND = Path(__file__).parents[1] / "harness" / "full_disk.c"


class Faults(Flight):
    """A flight whose PostgreSQL can be hurt."""

    def __init__(self, place: Path) -> None:
        super().__init__(place)
        self.flag, library = place / "full", place / "full_disk.so"
        subprocess.run(["gcc", "-shared", "-fPIC", "-O1", "-o", library, PREPEND], check=True)
        os.environ.update(LD_PRELOAD=str(library), FULL_DISK=str(self.flag))
        self.service = self.serve()
        self.herald = self.signed_in()

    @property
    def cluster(self) -> Cluster:
        return Cluster(self.folder / "data" / "postgres")

    def all_of_postgres(self) -> list[int]:
        """The postmaster and what it started."""
        postmaster = self.cluster._pid()
        assert postmaster is not None
        children = Path(f"/proc/{postmaster}/task/{postmaster}/children").read_text().split()
        return [postmaster, *map(int, children)]

    def kill(self) -> None:
        self.cluster.kill()

    def freeze(self) -> None:
        pids = self.all_of_postgres()
        for pid in pids:
            os.kill(pid, signal.SIGSTOP)
        time.sleep(FROZEN_SECONDS)
        for pid in reversed(pids):
            os.kill(pid, signal.SIGCONT)

    def fill_disk(self) -> None:
        self.flag.touch()
        time.sleep(10)
        self.flag.unlink()
        assert "No space left on device" in self.cluster.log.read_text(errors="replace")

    def serves(self) -> bool:
        try:
            return self.herald.ready().ok
        except HeraldError:
            return False

    def hurt(self, rollout_id: int, fault: Callable[[], None]) -> RolloutOut:
        """Does it while some devices have clearance and have not confirmed yet; follows the rollout to its end."""
        until(120, lambda: self.herald.rollouts.show(rollout_id).at_risk >= BETWEEN)
        fault()
        until(60, self.serves)
        until(180, lambda: self.herald.rollouts.show(rollout_id).state == "finished")
        return self.herald.rollouts.show(rollout_id)

    def agree(self, rollout: RolloutOut, target: str, former: str) -> None:
        """Every device's flash runs what its attempt says, and what the service says that it runs."""
        bytes_of = {v: sha256_hex(self.place.firmware(v).read_bytes()) for v in (target, former)}
        attempts = self.herald.rollouts.attempts(rollout.id, limit=1000).items
        assert len(attempts) >= DEVICES - 1 and all(attempt.closed for attempt in attempts)
        known = {device.serial: device.digest for device in self.herald.devices.each()}
        for attempt in attempts:
            _, digest = running_image(chip_path(self.place.flash, attempt.serial))
            assert digest == bytes_of[target if attempt.state == "confirmed" else former], attempt
            assert digest == known[attempt.serial], attempt
        assert rollout.states.get("confirmed", 0) >= len(attempts) - 1, (rollout.states, rollout.reasons)
        assert set(rollout.reasons) <= {"self-test-failed"}, "nobody is blamed for what the database did"


PLAN = f"""
name = "through the faults"
release = "{scenario.FIXED_RELEASE}"
target = "board = {scenario.BOARD}"
[numbers]
trial_for = "1h"
answer_within = "6h"
retries = 0
[[rings]]
name = "all"
soak = "1m"
enough = 0.5
[brake]
firmware_limit = 0.5
"""


def test_flash_and_attempt_agree_after_postgresql_was_killed_frozen_and_out_of_disk(
    folder: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("tests.system.test_flight.DEVICES", DEVICES)
    monkeypatch.setattr("tests.system.test_flight.SPEED", 40)
    monkeypatch.setenv("LD_PRELOAD", "")
    monkeypatch.setenv("FULL_DISK", "")
    flight = Faults(folder)
    try:
        flight.prepare(flight.herald)
        flight.fly()
        flight.wait_online(flight.herald, DEVICES)
        new, old = scenario.FIXED, scenario.OLD
        plan = PlanDocument.model_validate(tomllib.loads(PLAN))
        first = flight.hurt(flight.herald.rollouts.start(plan).id, flight.kill)
        flight.agree(first, new, old)
        back = flight.herald.rollouts.roll_back(first.id, RollbackIn(reason="and back"))
        flight.agree(flight.hurt(back.id, flight.freeze), old, new)
        again = flight.herald.rollouts.start(plan)
        flight.agree(flight.hurt(again.id, flight.fill_disk), new, old)
    finally:
        flight.stop()
