import tomllib
from pathlib import Path

from mellow_herald.core.behaviour import find_behaviour
from mellow_herald.core.nameplate import find_nameplate
from mellow_herald.demo import scenario
from mellow_herald.demo.scenario import Place
from mellow_herald.sim.scenario import load_scenario
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.plan import PlanDocument

CODES = dict.fromkeys((scenario.BOARD, scenario.GATEWAY_BOARD, scenario.SENSOR_BOARD), "code")
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
        scenario.write_files(place, seed=7)
        write_keys(place)
        scenario.write_scenario(place, CODES, 40, seed=7)
        texts.append([place.scenario.read_text(), place.firmware("2.5.0").read_bytes()])
    assert texts[0] == texts[1]


def test_one_device_is_worn_and_at_least_two_lose_a_transfer(tmp_path: Path) -> None:
    for devices in (10, 40, 200):
        place = Place(tmp_path / str(devices))
        scenario.write_files(place, seed=7)
        write_keys(place)
        scenario.write_scenario(place, CODES, devices, seed=7)
        everyone = load_scenario(place.scenario).devices
        specs = [spec for spec in everyone if spec.board == scenario.BOARD and "bench" not in spec.labels]
        assert len(specs) == devices == len({spec.serial for spec in specs})
        behind = [spec for spec in everyone if spec.gateway == scenario.GATEWAY]
        assert len(behind) == scenario.SENSORS and len(everyone) == devices + 2 + scenario.SENSORS
        worn = [spec for spec in specs if spec.quirks]
        assert len(worn) == 1 and not worn[0].link.cut_at
        assert sum(bool(spec.link.cut_at) for spec in specs) >= 2


def test_the_images_say_what_they_are() -> None:
    for version in (scenario.OLD, scenario.NEW):
        image = scenario.make_image(version, seed=7)
        plate = find_nameplate(image)
        assert plate is not None and plate.version == version and len(image) == scenario.IMAGE_SIZE
        assert bool(find_behaviour(image)) == (version == scenario.NEW)


def test_the_examples_are_what_the_demo_uses() -> None:
    board = BoardIn.model_validate(tomllib.loads((EXAMPLES / "boards" / "comb-s1.toml").read_text()))
    assert board.name == scenario.BOARD
    plan = PlanDocument.model_validate(tomllib.loads((EXAMPLES / "plans" / "everyone.toml").read_text()))
    assert str(plan.to_plan().release) == scenario.RELEASE
