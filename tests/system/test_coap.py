"""Meters that speak CoAP, in processes of their own, in one ring with others of their board that call by HTTP."""

import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo.meters import Meter
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.wire.rollback import RollbackIn
from tests.harness.meters import NEW, OLD, Meters
from tests.harness.patience import until

pytestmark = pytest.mark.system


def test_a_ring_of_http_and_coap_devices_by_pull_and_by_push_although_the_process_is_killed(folder: Path) -> None:
    field = [
        Meter("TA-W1-001"),
        Meter("TA-W1-002", {"delivery": "pull"}),
        Meter("TA-W1-003", {"delivery": "push"}),
        Meter("TA-W1-004", {"delivery": "pull", "protocols": ["http"]}),
        Meter("TA-W1-005", {"delivery": "push", "queue": True}),
        Meter("TA-W1-006", {"delivery": "both"}, worn=True),
        Meter("TA-W1-007", {"wrong_secret": True}),
    ]
    good = [one.serial for one in field[:5]]
    meters = Meters(folder, field)

    def run_in_flash(version: str) -> bool:
        due = sha256_hex(meters.image(version).read_bytes())
        return all(running_image(chip_path(meters.flash, serial))[1] == due for serial in good)

    try:
        serving = meters.serve()
        herald = meters.flight.signed_in()
        meters.prepare(herald)
        meters.fly()
        until(lambda: sum(one.version == OLD for one in herald.devices.each()) == 6)
        rollout = herald.rollouts.start(meters.plan()).id
        until(lambda: herald.rollouts.show(rollout).states.get("downloading", 0) >= 2)  # type: ignore[call-overload]
        (speaker,) = children_with(serving.pid, "HERALD_COAP_ALONE")
        os.kill(speaker, signal.SIGKILL)
        # The worn one is silent while it falls back, which is for its watchdog to do; that counts as over, and is not.
        until(lambda: herald.rollouts.show(rollout).states == {"confirmed": 5, "reverted": 1, "queued": 1})
        attempts = {one.serial: one for one in herald.rollouts.attempts(rollout).items}
        assert {attempts[serial].state.value for serial in good} == {"confirmed"} and run_in_flash(NEW)
        assert (attempts["TA-W1-006"].state, attempts["TA-W1-006"].reason) == ("reverted", "fell-back")
        ways = {one.serial: one.method for one in herald.coap.each()}
        assert (ways["TA-W1-002"], ways["TA-W1-003"], ways["TA-W1-004"]) == ("pull by coap", "push", "pull by http")
        deaf = herald.coap.show("TA-W1-007")
        assert not deaf.registered and "is its secret the one on record?" in deaf.trouble
        assert attempts["TA-W1-007"].state == "queued", "and it holds nobody up"

        # Back again, each by its own way: by its other slot over HTTP, by the former release over CoAP.
        until(lambda: herald.rollouts.show(rollout).state == "finished")
        back = herald.rollouts.roll_back(rollout, RollbackIn(reason="tried, and not wanted")).id
        until(lambda: herald.rollouts.show(back).state == "finished")
        assert run_in_flash(OLD)
        herald.close()
    finally:
        meters.flight.stop()
    assert children_with(serving.pid, "HERALD_COAP_ALONE") == [], "it went with the service"


def children_with(parent: int, name: str) -> list[int]:
    """The processes that a process started with something in their environment."""
    found = []
    for place in Path("/proc").glob("[0-9]*"):
        try:
            fields = (place / "stat").read_text().rpartition(")")[2].split()
            if int(fields[1]) == parent and name.encode() in (place / "environ").read_bytes():
                found.append(int(place.name))
        except OSError:
            continue
    return found


def test_who_serves_no_coap_loads_nothing_of_it() -> None:
    modules = "mellow_herald.service.serve, mellow_herald.cli.main, mellow_herald.sim.fleet"
    code = f"import sys, {modules}; print([name for name in sys.modules if 'aiocoap' in name or '.coap.' in name])"
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    loaded = [name for name in told.stdout.strip("[]\n").replace("'", "").split(", ") if name]
    assert all(name.startswith("mellow_herald.core.coap.") for name in loaded), loaded
