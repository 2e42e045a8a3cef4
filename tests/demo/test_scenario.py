import tomllib
from pathlib import Path

from mellow_herald.client.plan_file import check_plan
from mellow_herald.core.behaviour import find_behaviour
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.demo import scenario, yard
from mellow_herald.demo.scenario import Place
from mellow_herald.sim.scenario import load_scenario
from mellow_herald.wire.board import BoardIn

CODES = dict.fromkeys((scenario.BOARD, scenario.GATEWAY_BOARD, scenario.SENSOR_BOARD, yard.RELAY_BOARD), "code")
EXAMPLES = Path(__file__).parents[2] / "examples"


def write_keys(place: Place) -> None:
    """The key files that a scenario names must be there when it is read."""
    for file in (place.root_key.with_suffix(".pub.pem"), place.key_list):
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(b"-")


def test_the_same_seed_makes_the_same_fleet_and_firmware(tmp_path: Path) -> None:
    texts = []
    for name in ("one", "two"):
        place = Place(tmp_path / name)
        scenario.write_files(place, seed=7, devices=40)
        write_keys(place)
        scenario.write_scenario(place, CODES, 40, seed=7)
        texts.append([place.scenario.read_text(), place.firmware("2.5.0").read_bytes()])
    assert texts[0] == texts[1]


def test_some_devices_are_worn_and_at_least_two_lose_a_transfer(tmp_path: Path) -> None:
    for devices in (10, 40, 200):
        place = Place(tmp_path / str(devices))
        scenario.write_files(place, seed=7, devices=40)
        write_keys(place)
        scenario.write_scenario(place, CODES, devices, seed=7)
        everyone = load_scenario(place.scenario).devices
        specs = [spec for spec in everyone if spec.board == scenario.BOARD and spec.serial != scenario.LAB_UNIT]
        assert len(specs) == devices == len({spec.serial for spec in specs})
        assert [spec.serial for spec in everyone if spec.gateway == scenario.GATEWAY] == [yard.RELAY]
        sensors = sum(spec.gateway == yard.RELAY for spec in everyone)
        assert sensors == scenario.SENSORS + len(scenario.OUTSIDE) and len(everyone) == devices + 3 + sensors
        worn = [spec for spec in specs if spec.quirks]
        assert len(worn) == max(1, devices // scenario.WORN_IN)
        assert not any(spec.link.cut_at or "bench" in spec.labels for spec in worn)
        assert sum(bool(spec.link.cut_at) for spec in specs) >= 2


def test_the_images_say_what_they_are() -> None:
    for version in (scenario.OLD, scenario.NEW, scenario.FIXED):
        image = scenario.make_image(version, seed=7)
        plate = find_nameplate(image)
        assert plate is not None and plate.version == version and len(image) == scenario.IMAGE_SIZE
        assert bool(find_behaviour(image)) == (version != scenario.OLD)


def test_the_examples_are_what_the_demo_uses() -> None:
    board = BoardIn.model_validate(tomllib.loads((EXAMPLES / "boards" / "comb-s1.toml").read_text()))
    assert board.name == scenario.BOARD
    for name in ("everyone", "outwards", "by-night", "owners-first"):
        document, mistakes = check_plan(EXAMPLES / "plans" / f"{name}.toml")
        assert document is not None and not mistakes
        assert str(document.to_plan().release) == scenario.RELEASE


def test_every_example_plan_is_good_names_its_schema_and_says_when_to_use_it() -> None:
    plans = sorted((EXAMPLES / "plans").glob("*.toml"))
    assert len(plans) == 5
    for path in plans:
        assert check_plan(path)[1] == []
        first, second = path.read_text().splitlines()[:2]
        assert first.startswith("#:schema http") and first.endswith("/schemas/plan.json")
        assert second.startswith("# ") and len(second) > 60


def test_the_plan_of_the_demo_is_good(tmp_path: Path) -> None:
    place = Place(tmp_path)
    scenario.write_files(place, seed=7, devices=40)
    for version in (scenario.NEW, scenario.FIXED):
        document, mistakes = check_plan(place.plan(version))
        assert document is not None and not mistakes and len(document.rings) == 4


def test_no_device_of_the_bench_shows_the_fault(tmp_path: Path) -> None:
    place = Place(tmp_path)
    scenario.write_files(place, seed=7, devices=60)
    write_keys(place)
    scenario.write_scenario(place, CODES, 60, seed=7)
    specs = [spec for spec in load_scenario(place.scenario).devices if spec.board == scenario.BOARD]
    assert not any(spec.hw_rev == 2 for spec in specs if "bench" in spec.labels)
    assert sum(spec.hw_rev == 2 for spec in specs) >= 15
    assert any(spec.link.offline for spec in specs) and load_scenario(place.scenario).scenario.outages
