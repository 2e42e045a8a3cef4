"""The slice with real processes: service, simulated devices, client library; and a service that is killed half-way."""

import json
import os
import signal
import subprocess
import sys
import time
import tomllib
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from mellow_herald.client import Herald, HeraldError
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.keys import KeyStatus, SigningKey, private_from_pem, raw_public, sign_key_list
from mellow_herald.demo import scenario
from mellow_herald.demo.scenario import Place
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn
from mellow_herald.wire.plan import PlanDocument
from tests.harness.processes import free_port, open_folder
from tests.harness.some import some

pytestmark = [pytest.mark.system, pytest.mark.xdist_group("processes")]
HERALD = [sys.executable, "-m", "mellow_herald.cli.main"]
DEVICES, SPEED = 12, int(os.environ.get("HERALD_TEST_SPEED", "40"))


@pytest.fixture
def folder() -> Iterator[Path]:
    with open_folder() as made:
        yield made


class Flight:
    """The processes of one flight."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.port = folder, free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.place = Place(folder / "demo")
        self.processes: list[subprocess.Popen[bytes]] = []

    def start(self, *arguments: str) -> subprocess.Popen[bytes]:
        environment = {**os.environ, "HERALD_ADMIN_PASSWORD": "only-for-tests"}
        log = (self.folder / f"{arguments[0]}.log").open("ab")
        command = [*HERALD, *arguments]
        process = subprocess.Popen(command, env=environment, stdout=log, stderr=log, start_new_session=True)
        self.processes.append(process)
        return process

    def serve(self, *more: str) -> subprocess.Popen[bytes]:
        where = ["--data-dir", str(self.folder / "data"), "--port", str(self.port)]
        process = self.start("serve", *where, "--time-scale", str(SPEED), *more)
        # Three workers, a new cluster and a first compilation of everything, beside other tests: that takes its time.
        deadline = time.monotonic() + 120
        with Herald(self.url) as herald:
            while time.monotonic() < deadline:
                assert process.poll() is None, (self.folder / "serve.log").read_text()
                with suppress(HeraldError):
                    herald.ready()
                    return process
                time.sleep(0.1)
        raise AssertionError("the service did not get ready")

    def signed_in(self) -> Herald:
        with Herald(self.url) as herald:
            herald.people.sign_in("admin", "only-for-tests")
            token = herald.people.make_token().token
        return Herald(self.url, token=token)

    def prepare(self, herald: Herald, versions: tuple[str, ...] = (scenario.OLD, scenario.FIXED)) -> None:
        """Keys, board, releases and a code, by the client library."""
        place = self.place
        scenario.write_files(place, seed=3, devices=DEVICES)
        for path in (place.root_key, place.signing_key):
            subprocess.run([*HERALD, "key", "new", str(path)], check=True, capture_output=True)
        root, key = (private_from_pem(path.read_bytes()) for path in (place.root_key, place.signing_key))
        signed = sign_key_list(root, 1, [SigningKey(raw_public(key), KeyStatus.ACTIVE)])
        place.key_list.write_bytes(signed)
        herald.keys.publish(raw_public(root), signed)
        codes = {}
        for path in (place.board, *place.other_boards):
            board = BoardIn.model_validate(tomllib.loads(path.read_text()))
            herald.boards.add(board)
            asked = CodeIn(board=board.name, line=board.lines[0], uses=DEVICES + OTHERS)
            codes[board.name] = herald.codes.make(asked).code or ""
        for version in versions:
            herald.releases.publish(place.firmware(version), key=key)
        scenario.write_scenario(place, codes, DEVICES, seed=3, calm=True)

    def fly(self) -> subprocess.Popen[bytes]:
        where = ["--url", self.url, "--data-dir", str(self.place.flash)]
        return self.start("sim", "run", str(self.place.scenario), *where)

    def wait_online(self, herald: Herald, devices: int, seconds: float = 120) -> None:
        def there() -> bool:
            presence = herald.overview().presence
            return presence.get("online", 0) + presence.get("late", 0) == devices + OTHERS

        until(seconds, there)

    def stop(self) -> None:
        for process in reversed(self.processes):
            if process.poll() is None:
                process.terminate()
        for process in self.processes:
            process.wait(15)


# The lab's unit, a gateway and the sensors behind it are there too.
OTHERS = 2 + scenario.SENSORS
SCALES = f"board = {scenario.BOARD} and serial != {scenario.LAB_UNIT}"


def until(seconds: float, wanted: object) -> None:
    deadline = time.monotonic() + seconds
    while not wanted():  # type: ignore[operator]
        assert time.monotonic() < deadline, "it did not come to pass"
        time.sleep(0.1)


def test_a_release_reaches_the_fleet_although_service_and_devices_are_killed_on_the_way(folder: Path) -> None:
    flight = Flight(folder)
    try:
        service = flight.serve()
        herald = flight.signed_in()
        flight.prepare(herald)
        devices = flight.fly()
        until(30, lambda: herald.overview().presence.get("online") == DEVICES + OTHERS)
        assert {device.version for device in herald.devices.each(where=SCALES)} == {scenario.OLD}

        document = tomllib.loads(flight.place.plan(scenario.FIXED).read_text())
        # Time runs fast here: the service's second away must not be the end of every trial.
        document["numbers"]["trial_for"] = "1h"
        document["rings"] = [{"name": "all", "soak": "1m", "enough": 0.5}]
        document["brake"]["firmware_limit"] = 0.5  # all of them lose power at once: that is no matter of the release
        plan = PlanDocument.model_validate(document)
        rollout_id = herald.rollouts.start(plan).id
        until(30, lambda: herald.rollouts.show(rollout_id).exposed >= 2)
        service.send_signal(signal.SIGKILL)
        service.wait()
        time.sleep(0.5)
        flight.serve()
        devices.send_signal(signal.SIGKILL)  # all of them lose power at once
        devices.wait()
        flight.fly()

        until(60, lambda: herald.rollouts.show(rollout_id).state == "finished")
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
        assert rollout.states.get("confirmed", 0) >= DEVICES - 2, rollout.states
        assert "self-test-failed" in rollout.reasons
        shown = [herald.devices.show(attempt.serial) for attempt in attempts]
        cut = [d for d in shown if any("transfer cut" in entry.detail for entry in d.timeline)]
        assert len(cut) >= 1
        herald.close()
    finally:
        flight.stop()
    assert not (folder / "data" / "postgres" / "data" / "postmaster.pid").exists(), "PostgreSQL was stopped too"


def test_the_demo_plays_once_goes_on_from_its_folder_and_stops_when_asked(folder: Path) -> None:
    port = free_port()
    command = [*HERALD, "demo", "--data-dir", str(folder), "--port", str(port), "--devices", "40", "--speed", "100"]
    done = subprocess.run([*command, "--once"], capture_output=True, text=True, timeout=900)
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
    asked = time.monotonic()
    process.send_signal(signal.SIGINT)
    process.wait(15)
    assert time.monotonic() - asked < 10
    assert not Path(f"/proc/{pid}").exists(), "PostgreSQL was stopped too"
    assert json.loads((folder / "demo" / "notes.json").read_text())["devices"] == 40
