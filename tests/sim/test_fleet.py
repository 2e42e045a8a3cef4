"""The sim as a process has it: scenario files, chips in files, and hands on devices over the bench's socket."""

import asyncio
from pathlib import Path

import pytest

from mellow_herald.core.keys import public_to_pem, raw_public
from mellow_herald.core.refusal import Refused
from mellow_herald.sim.bench import SOCKET, Bench, ask
from mellow_herald.sim.fleet import Fleet, Supply, chip_path
from mellow_herald.sim.hardware import running_image
from mellow_herald.sim.scenario import load_scenario
from tests.harness.firmware import Publisher, make_bytes
from tests.harness.some import some

NOBODY = "http://127.0.0.1:9"
SCENARIO = """
vendor_domain = "thistledown.example"
root = "root.pem"
key_list = "list.cose"

[boards.comb-s1]
code = "c"
check_in = "1m"
recovery = "old.bin"
parts.app = { size = 65536 }

[[devices]]
serial = "TA-{n:02}"
count = 4
board = "comb-s1"
line = "hive-scale"
hw_rev = [1, 2, 3]
labels = { site = ["fernhollow", "quillmere"], yard = "north" }
gateway = "TA-01"
images = { app = "old.bin" }
"""


@pytest.fixture
def scenario(tmp_path: Path) -> Path:
    publisher = Publisher()
    (tmp_path / "root.pem").write_bytes(public_to_pem(raw_public(publisher.root)))
    (tmp_path / "list.cose").write_bytes(publisher.key_list_bytes())
    (tmp_path / "old.bin").write_bytes(make_bytes("2.4.0"))
    (tmp_path / "new.bin").write_bytes(make_bytes("2.5.0"))
    path = tmp_path / "apiaries.toml"
    path.write_text(SCENARIO)
    return path


def test_a_count_makes_devices_that_draw_from_lists(scenario: Path) -> None:
    loaded = load_scenario(scenario)
    assert [spec.serial for spec in loaded.devices] == ["TA-01", "TA-02", "TA-03", "TA-04"]
    assert {spec.labels["yard"] for spec in loaded.devices} == {"north"}
    assert all(spec.hw_rev in (1, 2, 3) for spec in some(loaded.devices))
    assert loaded.devices == load_scenario(scenario).devices, "the same draw every time"


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("parts.app", "partz.app", "did you mean parts?"),
        ("count = 4\n", "", "`count` and `{n}`"),
        ('serial = "TA-{n:02}"', 'serial = "TA-{n:02}"\nsiral = 1', "siral is not a key that is known here"),
        ('board = "comb-s1"', 'board = "comb-s2"', "there is no board comb-s2; did you mean comb-s1?"),
        ('check_in = "1m"', 'check_in = "often"', "boards.comb-s1.check_in: 'often' is not a duration"),
        ("{ app =", "{ radio =", "comb-s1 has no part radio"),
        ("[[devices]]", "[[devices", "is not TOML"),
        ('{ app = "old.bin"', '{ app = "none.bin"', "names none.bin, which is not there"),
        ('serial = "TA-{n:02}"', 'serial = "TA-{n:.0s}"', "{n:04} at most once"),
    ],
)
def test_a_mistake_in_a_scenario_is_pointed_at(scenario: Path, old: str, new: str, said: str) -> None:
    scenario.write_text(SCENARIO.replace(old, new, 1))
    with pytest.raises(Refused) as refused:
        load_scenario(scenario)
    assert said in str(refused.value)


def test_a_scenario_that_is_not_there_is_said(tmp_path: Path) -> None:
    with pytest.raises(Refused, match="cannot be read"):
        load_scenario(tmp_path / "none.toml")


def test_a_supply_cuts_once_at_each_of_its_operations() -> None:
    supply = Supply([3, 5])
    assert [supply() for _ in range(7)] == [True, True, False, True, False, True, True]


async def test_hands_reach_a_device_over_the_socket(scenario: Path, tmp_path: Path) -> None:
    folder = tmp_path / "flash"
    folder.mkdir()
    lines: list[str] = []

    fleet = Fleet(load_scenario(scenario), NOBODY, folder, lambda serial, line: lines.append(f"{serial} {line}"))
    async with Bench(folder, fleet.devices):
        running = asyncio.create_task(fleet.run())

        async def hand(**asked: object) -> dict[str, object]:
            return await asyncio.to_thread(ask, folder, **asked)

        shown = (await hand(do="list"))["devices"]
        assert isinstance(shown, list)
        assert [one["serial"] for one in shown] == ["TA-01", "TA-02", "TA-03", "TA-04"]
        said = await hand(do="flash", serial="TA-02", file=str(tmp_path / "new.bin"))
        assert "flashed by cable with 2.5.0" in str(said["said"])
        for deed in ("reset", "unplug", "plug", "press"):
            assert (await hand(do=deed, serial="TA-03"))["said"]
        assert (await hand(**{"do": "cut", "serial": "TA-03", "for": "10m"}))["said"]
        for wrong, why in [
            ({"do": "reset", "serial": "TA-99"}, "No device TA-99"),
            ({"do": "tickle", "serial": "TA-01"}, "nothing that can be done"),
            ({"do": "flash", "serial": "TA-01", "file": str(tmp_path / "none")}, "No such file"),
            ({"do": "cut", "serial": "TA-01", "for": "soon"}, "is not a duration"),
            ({"do": "reset"}, "cannot be done"),
        ]:
            with pytest.raises(Refused, match=why):
                await hand(**wrong)
        assert (folder / SOCKET).stat().st_mode & 0o777 == 0o600
        running.cancel()
        await asyncio.gather(running, return_exceptions=True)
    assert running_image(chip_path(folder, "TA-02"))[0] == "2.5.0"
    assert running_image(chip_path(folder, "TA-01"))[0] == "2.4.0"
    with pytest.raises(Refused, match="No sim answers"):
        ask(folder, do="list")


async def test_what_is_behind_a_gateway_depends_on_it(scenario: Path, tmp_path: Path) -> None:
    fleet = Fleet(load_scenario(scenario), NOBODY, tmp_path / "flash", lambda serial, line: None)
    gateway, child = fleet.devices["TA-01"], fleet.devices["TA-02"]
    assert not await child.carry(0), "the gateway is not up yet"
    gateway.lamp = "running"
    assert await child.carry(0)
    gateway.cut_link(600)
    assert not await child.carry(0)
