"""The fleet as it is typed: import, one device at once, visits, baselines, and hands on simulated devices."""

import asyncio
import json
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.keys import private_to_pem, public_to_pem, raw_public
from mellow_herald.service.calls.logs import show_lines
from mellow_herald.service.fleet import devices
from tests.harness.firmware import BOARD, LINE, make_bytes
from tests.harness.patience import PATIENCE_S, until
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal

NEWEST = f"{BOARD}/{LINE}/2.5.0"
SCENARIO = """
vendor_domain = "thistledown.example"
root = "root.pem"
key_list = "list.cose"
[boards.comb-s1]
code = "{code}"
check_in = "60s"
recovery = "recovery.bin"
parts.app = {{ size = 65536 }}
[[devices]]
serial = "SIM-1"
board = "comb-s1"
line = "hive-scale"
labels = {{ site = "fernhollow" }}
link = {{ bytes_per_s = 40000, wait_s = 5 }}
images = {{ app = "old.bin" }}
"""


@pytest.fixture
def service(databases: Any, tmp_path: Path) -> Iterator[RunningService]:
    running = RunningService(databases.fresh(), tmp_path / "service", time_scale=20.0).start().prepare()
    for version in ("2.4.0", "2.5.0"):
        running.publish(version).raise_for_status()
    yield running
    running.stop()


@pytest.fixture
def terminal(service: RunningService, tmp_path: Path) -> Terminal:
    made = Terminal(service, tmp_path)
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    return made


@pytest.fixture
def sim(service: RunningService, terminal: Terminal, tmp_path: Path) -> Iterator[Path]:
    """One simulated device in a process of its own; its flash folder."""
    publisher = service.publisher
    (tmp_path / "root.pem").write_bytes(public_to_pem(raw_public(publisher.root)))
    (tmp_path / "list.cose").write_bytes(publisher.key_list_bytes())
    (tmp_path / "old.bin").write_bytes(make_bytes("2.4.0"))
    (tmp_path / "recovery.bin").write_bytes(make_bytes("1.0.0-recovery", size=4096))
    (tmp_path / "sim.toml").write_text(SCENARIO.format(code=service.code()))
    flash = tmp_path / "flash"
    command = [sys.executable, "-m", "mellow_herald.cli.main", "sim", "run", str(tmp_path / "sim.toml")]
    log = ["--log", str(tmp_path / "devices.log")]
    process = subprocess.Popen([*command, "--url", service.url, "--data-dir", str(flash), *log])
    until(lambda: service.herald.devices.list(where="presence = online").total == 1)
    yield flash
    process.terminate()
    process.wait(PATIENCE_S)


def test_one_device_at_once_shows_both_ends_and_hands_reach_it(
    service: RunningService, terminal: Terminal, sim: Path, tmp_path: Path
) -> None:
    said = terminal.good("device", "install", "SIM-1", "--release", NEWEST, "--yes")
    for line in (
        "service  ◔ offered",
        "device   manifest of 2.5.0 is signed by",
        "service  ● confirmed",
        "device   confirmed",
    ):
        assert line in said
    here = ("--data-dir", str(sim))
    (shown,) = json.loads(terminal.good("sim", "list", *here, "--json"))
    assert (shown["version"], shown["slot"], shown["lamp"]) == ("2.5.0", "b", "running")
    assert "runs these very bytes already" in terminal.bad(
        1, "device", "install", "SIM-1", "--release", NEWEST, "--yes"
    )
    again = terminal.good("device", "install", "SIM-1", "--release", NEWEST, "--again", "--yes")
    assert "● confirmed" in again
    assert "confirmed" in terminal.good("device", "log", "SIM-1")

    key = tmp_path / "key.pem"
    key.write_bytes(private_to_pem(service.publisher.key))
    for number in (1, 2):  # the same version again, without a word
        build = tmp_path / f"build-{number}.bin"
        build.write_bytes(make_bytes("2.5.1-dev", fill=bytes([0x30, number])))
        if number == 1:
            said = terminal.run("device", "install", "SIM-1", build, "--key", key, stdin="n\n")
            assert said.returncode == 1 and "SIM-1 is no bench device yet. Mark it as one?" in said.stderr
            assert "bench devices: 1: SIM-1" in terminal.good("device", "mark", "SIM-1", "--bench")
        assert "● confirmed" in terminal.good("device", "install", "SIM-1", build, "--key", key)
    assert "2.5.1-dev  bench build" in terminal.good("device", "show", "SIM-1")
    assert "◌ scratch" in terminal.good("release", "show", "3"), "what was brought to the bench, and is no release"
    assert "2.5.1-dev" not in terminal.good("release", "list")
    told = terminal.good("device", "show", "SIM-1", "--releases")
    assert "bench-build" in told and "(bench build)" in told
    assert "it runs a bench build" in terminal.bad(1, "device", "install", "SIM-1", "--release", NEWEST, "--yes")
    back = terminal.good("device", "install", "SIM-1", "--release", NEWEST, "--older", "--over-bench-build", "--yes")
    assert "● confirmed" in back and "SIM-1 confirmed it" in back
    assert "say what to install" in terminal.bad(1, "device", "install", "SIM-1")

    broken = tmp_path / "broken.bin"
    broken.write_bytes(make_bytes("2.6.0-mine") + encode_behaviour([Behaviour("hw_rev = 1", Fault.CRASH_AT_BOOT)]))
    assert "2.6.0-mine" in terminal.good("sim", "flash", "SIM-1", broken, *here)
    until(lambda: service.herald.devices.show("SIM-1").boots >= 6)
    until(lambda: "version changed" in [e.what for e in service.herald.devices.show("SIM-1").timeline])
    local = tmp_path / "local.bin"
    local.write_bytes(make_bytes("2.6.0-local"))
    terminal.good("sim", "flash", "SIM-1", local, *here)
    until(lambda: service.herald.devices.show("SIM-1").runs == "unknown-build")
    told = terminal.good("device", "show", "SIM-1")
    assert "unknown build" in told and "not overwritten unasked" in told
    assert "--over-unknown-build" in terminal.bad(1, "device", "install", "SIM-1", "--release", NEWEST, "--yes")

    assert "has no power" in terminal.good("sim", "unplug", "SIM-1", *here)
    until(lambda: service.herald.devices.list(where="presence = offline").total == 1)
    assert "has power again" in terminal.good("sim", "unplug", "SIM-1", "--back", *here)
    until(lambda: service.herald.devices.list(where="presence = online").total == 1)
    assert "cut for 2m" in terminal.good("sim", "cut", "SIM-1", "--for", "2m", *here)
    assert "No device SIM-9" in terminal.bad(1, "sim", "reset", "SIM-9", *here)
    assert "SIM-1: enrolled" in (tmp_path / "devices.log").read_text()


def test_what_a_device_says_before_the_service_has_answered_is_shown(
    service: RunningService, terminal: Terminal, sim: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    install = devices.install

    async def slow(*given: Any) -> tuple[int, bool]:
        started = await install(*given)
        deadline = time.monotonic() + PATIENCE_S
        while not any(line.text == "confirmed" for line in await show_lines(service.context, "SIM-1", 0, 500)):
            assert time.monotonic() < deadline
            await asyncio.sleep(0.2)
        return started

    monkeypatch.setattr(devices, "install", slow)
    said = terminal.good("device", "install", "SIM-1", "--release", NEWEST, "--yes")
    assert "device   manifest of 2.5.0 is signed by" in said and "device   confirmed" in said


def test_import_says_what_it_would_do_and_export_can_be_read_back(terminal: Terminal, tmp_path: Path) -> None:
    fleet = tmp_path / "fleet.csv"
    fleet.write_text(
        "serial,board,line,hw_rev,label.site\nT-1,comb-s1,hive-scale,1,fernhollow\nT-2,comb-s9,hive-scale,1,\n"
    )
    said = terminal.run("device", "import", fleet, "--check")
    assert said.returncode == 1 and "1 would be added" in said.stdout and "unknown-board" in said.stdout
    assert "new: T-1" in said.stdout
    asked = terminal.run("device", "import", fleet, stdin="n\n")
    assert asked.returncode == 1 and "0 of 0 devices" in terminal.good("device", "list")
    done = terminal.run("device", "import", fleet, "--yes")
    assert done.returncode == 1 and "1 were added" in done.stdout, "some lines were refused"
    other = tmp_path / "other.csv"
    other.write_text("serial,board,line,hw_rev,label.site,note\nT-1,comb-s1,hive-scale,1,quillmere,by the gate\n")
    said = terminal.good("device", "import", other, "--check")
    for cells in (("label.site", "fernhollow", "quillmere"), ("note", "–", "by the gate")):
        assert any(all(cell in line for cell in cells) for line in said.splitlines()), said
    out = tmp_path / "out.jsonl"
    terminal.good("device", "export", "--out", out)
    assert json.loads(out.read_text())["labels"] == {"site": "fernhollow"}
    assert "1 left as they are" in terminal.good("device", "import", out, "--yes")
    assert terminal.good("device", "export", "--where", "site = fernhollow").startswith("serial,board,line,hw_rev")
    assert "neither *.csv nor *.jsonl" in terminal.bad(1, "device", "import", tmp_path / "credentials.json")
    assert "is not there" in terminal.bad(1, "device", "import", tmp_path / "none.csv")
    assert "0 devices to visit" in terminal.good("device", "visits")
    terminal.good("device", "visits", "--out", tmp_path / "visits.csv")
    assert (tmp_path / "visits.csv").read_text().startswith("site,serial")
    assert "behind TA-G" in terminal.good("device", "gateway", "T-1", "TA-G")
    assert "settled" in terminal.good("device", "settle", "T-1", "--reason", "seen to")


def test_a_baseline_is_switched_on_after_it_said_what_it_would_do(terminal: Terminal) -> None:
    release = NEWEST
    terminal.good("release", "baseline", release, "--reason", "the latest", "--yes")
    assert "brings nobody" in terminal.good("release", "baseline")
    asked = terminal.run("release", "baseline", release, "--bring", "--reason", "new units are old", stdin="n\n")
    assert asked.returncode == 1 and "Now it would bring 0 devices" in asked.stderr
    said = terminal.good("release", "baseline", release, "--bring", "--reason", "new units are old", "--yes")
    assert "brings devices that arrive" in said
    terminal.good("release", "baseline", release, "--no-bring", "--reason", "enough", "--yes")


def test_a_mistake_in_a_selector_is_pointed_at(terminal: Terminal) -> None:
    said = terminal.bad(1, "device", "list", "--where", "board == x").splitlines()
    assert said[:2] == ["  board == x", "         ^"]
