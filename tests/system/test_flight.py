"""The slice with real processes: service, simulated devices, client library; and a service that is killed half-way."""

import json
import signal
import subprocess
import time
import tomllib
from pathlib import Path

import pytest

from mellow_herald.client import Herald
from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import scenario
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.wire.plan import PlanDocument
from tests.harness.flight import DEVICES, HERALD, OTHERS, SCALES, Flight
from tests.harness.patience import PATIENCE_S, until
from tests.harness.processes import free_port
from tests.harness.some import some

pytestmark = pytest.mark.system


def test_a_release_reaches_the_fleet_although_service_and_devices_are_killed_on_the_way(folder: Path) -> None:
    flight = Flight(folder)
    try:
        service = flight.serve()
        herald = flight.signed_in()
        flight.prepare(herald)
        devices = flight.fly()
        until(lambda: herald.overview().presence.get("online") == DEVICES + OTHERS)
        assert {device.version for device in herald.devices.each(where=SCALES)} == {scenario.OLD}

        document = tomllib.loads(flight.place.plan(scenario.FIXED).read_text())
        # Time runs fast here: the service's second away must not be the end of every trial.
        document["numbers"]["trial_for"] = "1h"
        document["rings"] = [{"name": "all", "soak": "1m", "enough": 0.5}]
        document["brake"]["firmware_limit"] = 0.5  # all of them lose power at once: that is no matter of the release
        plan = PlanDocument.model_validate(document)
        rollout_id = herald.rollouts.start(plan).id
        until(lambda: herald.rollouts.show(rollout_id).exposed >= 2)
        service.send_signal(signal.SIGKILL)
        service.wait()
        time.sleep(0.5)
        flight.serve()
        devices.send_signal(signal.SIGKILL)  # all of them lose power at once
        devices.wait()
        flight.fly()

        until(lambda: herald.rollouts.show(rollout_id).state == "finished")
        events = [event for event in herald.rollouts.watch(rollout_id, after=0) if event.kind == "rollout"]
        assert [event.data["what"] for event in events] == [
            "started",
            "ring 1 opened",
            "ring 1 soaking",
            "ring 1 done",
            "finished",
        ]
        rollout = herald.rollouts.show(rollout_id)
        assert rollout.passed_over == {"unknown-build": 1}, "the lab's own build is not overwritten unasked"
        assert rollout.targeted == DEVICES + 1 == sum(rollout.states.values()) + 1
        attempts = herald.rollouts.attempts(rollout_id).items
        assert all(attempt.closed for attempt in some(attempts))
        new = sha256_hex(flight.place.firmware(scenario.FIXED).read_bytes())
        old = sha256_hex(flight.place.firmware(scenario.OLD).read_bytes())
        for attempt in attempts:
            _, digest = running_image(chip_path(flight.place.flash, attempt.serial))
            assert digest == (new if attempt.state == "confirmed" else old), attempt
        # Two fail their self-test; whose power went between its word and the boot loader's had nothing else to say.
        others = [one.reason for one in attempts if one.state != "confirmed"]
        assert set(others) <= {"self-test-failed", "power-lost"} and others.count("power-lost") <= DEVICES // 3, others
        assert "self-test-failed" in rollout.reasons and others.count("self-test-failed") <= 2
        shown = [herald.devices.show(attempt.serial) for attempt in attempts]
        cut = [d for d in shown if any("transfer cut" in entry.detail for entry in d.timeline)]
        assert len(cut) >= 1
        herald.close()
    finally:
        flight.stop()
    assert not (folder / "data" / "postgres" / "data" / "postmaster.pid").exists(), "PostgreSQL was stopped too"


def test_the_demo_plays_once_goes_on_from_its_folder_and_stops_when_asked(folder: Path) -> None:
    port = free_port()
    command = [*HERALD, "demo", "--data-dir", str(folder), "--port", str(port), "--devices", "40", "--speed", "60"]
    done = subprocess.run([*command, "--once"], capture_output=True, text=True, timeout=4800)
    assert done.returncode == 0, done.stdout + done.stderr
    lines = done.stdout.strip().splitlines()
    ends = [line.partition(": ")[2] for line in lines if line.startswith("rollout ") and " outwards: " in line]
    assert len(ends) == 2 and ends[0].startswith("confirmed 0 of "), "the first was taken back"
    assert int(ends[1].split()[1]) >= 37, "the next one went through"
    assert any("decided devices are bad" in line for line in lines), "suspects were looked for"
    assert "the service and the devices' flash agree" in lines
    assert not (folder / "postgres" / "data" / "postmaster.pid").exists()

    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, start_new_session=True)
    said = []
    assert process.stdout is not None
    for line in process.stdout:
        said.append(line)
        if line.startswith("sign in"):
            break
    text = "".join(said)
    assert "are there from an earlier start" in text and ends[1] in text
    assert f"http://127.0.0.1:{port}" in text
    password = said[-1].split()[-1]
    with Herald(f"http://127.0.0.1:{port}") as herald:
        assert herald.people.sign_in("admin", password).roles == ["admin"]
    pid = int((folder / "postgres" / "data" / "postmaster.pid").read_text().split()[0])
    process.send_signal(signal.SIGINT)
    process.wait(PATIENCE_S)
    assert not Path(f"/proc/{pid}").exists(), "PostgreSQL was stopped too"
    assert json.loads((folder / "demo" / "notes.json").read_text())["devices"] == 40
