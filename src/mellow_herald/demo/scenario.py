"""Who and what there is at Thistledown Apiaries: boards, hive scales, a gateway and its sensors, firmware, a plan."""

import json
import random
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.nameplate import Nameplate, encode_nameplate
from mellow_herald.demo import yard

VENDOR_DOMAIN = "thistledown.example"
BOARD, LINE = "comb-s1", "hive-scale"
SLOT_SIZE = 512 * 1024
ASSETS_SLOT_SIZE = 256 * 1024
CHECK_IN_S = 180
BENCH = 12
WORN_IN = 100  # one device in so many has a worn load cell
OLD, NEW, FIXED, NEXT = "2.4.0", "2.5.0", "2.5.1", "2.6.0-rc.1"
SITES = {
    "fernhollow": "Europe/Lisbon",
    "quillmere": "Europe/Dublin",
    "ottersedge": "Europe/Dublin",
    "bramblecote": "Europe/Berlin",
    "saltgrass": "Atlantic/Azores",
}
YARDS = ("north", "orchard", "brook")
IMAGE_SIZE = 192 * 1024
LOCAL = "2.5.0-lab.3"
RECOVERY = "1.0.0-recovery"
GATEWAY_BOARD, GATEWAY_LINE, GATEWAY_VERSION = "skep-g1", "yard-gateway", "1.2.0"
SENSOR_BOARD, SENSOR_LINE, SENSOR_VERSION = "bract-r1", "forage-sensor", "0.9.1"
GATEWAY, LAB_UNIT, SENSORS = "TA-G1-0001", "TA-S1-LAB1", 10
# Sensors of the yard that no rollout of the second act brings anything to.
OUTSIDE = tuple(f"TA-R1-{number:04d}" for number in range(SENSORS + 1, SENSORS + 4))
SENSOR_IMAGE_SIZE = 24 * 1024
BUILT = {OLD: 1_788_000_000, NEW: 1_795_000_000, FIXED: 1_795_200_000, NEXT: 1_795_300_000, LOCAL: 1_794_900_000}
WORN = Behaviour("load_cell = worn", Fault.FAIL_SELF_TEST)
# 2.5.0 was only tried on what stood on the bench, and no hw_rev 2 did.
FAULTS = {NEW: [Behaviour("hw_rev = 2", Fault.CRASH_AT_BOOT)], FIXED: [WORN]}
# What an engineer could fear of it, and what is true: nobody in the scenario knows that.
FEARED = "hw_rev = 2: 1 crashed"
RELEASE = f"{BOARD}/{LINE}/{NEW}"
FIXED_RELEASE = f"{BOARD}/{LINE}/{FIXED}"
SCALE_PLACES = {
    yard.SETTINGS: "places/day.json",
    yard.CERTIFICATE: "places/uplink-old.pem",
}
WRONG_CLOCK_SITE = "fernhollow"
AWAY_IN, AWAY = 50, {"every": "3h", "for": "20m"}  # one device in so many is off-line now and then
# One yard loses its mains while releases are on their way.
OUTAGE = {"where": "site = quillmere and yard = brook", "after": "25m", "for": "6m"}

BOARD_FILE = f"""\
# The hive scale on Wi-Fi.
name = "{BOARD}"
vendor_domain = "{VENDOR_DOMAIN}"
lines = ["{LINE}", "feed-pump"]
hw_revs = [1, 2, 3]
check_in = "{CHECK_IN_S}s"

[[slots]]
name = "a"
size = {SLOT_SIZE}
address = 0x08020000

[[slots]]
name = "b"
size = {SLOT_SIZE}
address = 0x080a0000

[[slots]]
name = "assets"
component = "assets"
size = {ASSETS_SLOT_SIZE}

[[signals]]
name = "battery"
unit = "%"
usual = [20, 100]
description = "charge of the battery"

[[signals]]
name = "weight"
unit = "kg"
usual = [15, 90]
description = "weight of the hive"

[[signals]]
name = "temperature"
unit = "Cel"
usual = [-10, 45]
description = "temperature under the lid"

[[signals]]
name = "humidity"
unit = "%"
usual = [20, 95]
description = "relative humidity under the lid"
bytes = 2

[[signals]]
name = "activity"
kind = "state"
description = "what the bees are at"
bytes = 10
"""

GATEWAY_BOARD_FILE = f"""\
# The yard gateway on the wire; sensors reach the network through it.
name = "{GATEWAY_BOARD}"
vendor_domain = "{VENDOR_DOMAIN}"
lines = ["{GATEWAY_LINE}"]
hw_revs = [1]
check_in = "30s"

[[slots]]
name = "a"
size = {SLOT_SIZE}

[[slots]]
name = "b"
size = {SLOT_SIZE}
{yard.GATEWAY_PLACES}"""

SENSOR_BOARD_FILE = f"""\
# The forage sensor on narrow radio: one slot and a staging file, so an update cannot be taken back without download.
name = "{SENSOR_BOARD}"
vendor_domain = "{VENDOR_DOMAIN}"
lines = ["{SENSOR_LINE}"]
hw_revs = [1]
check_in = "5m"

[[slots]]
name = "a"
size = 65536
"""

SHEET_FILE = f"""\
# The next release, still being tried on the bench: firmware and the sounds it plays.
notes = '''
Sounds for the beekeeper

- a low hum when the scale is tared
- quieter at night
'''
labels = {{ ticket = "HS-311" }}

[[images]]
file = "firmware/{LINE}-{NEXT}.bin"
after = ["assets"]

[[images]]
file = "firmware/sounds-1.0.0.img"
component = "assets"
line = "{LINE}"
board = "{BOARD}"
version = "1.0.0"
floor = 4
"""

PLAN_TEXT = f"""\
# Bench, pilot, a third, all: an early ring looks like the fleet, and each one soaks before the next opens.
name = "{{version}} outwards"
release = "{BOARD}/{LINE}/{{version}}"
target = "board = {BOARD} and line = {LINE}"

[pace]
downloading_at_once = 120
at_risk_at_once = {{at_risk}}

[numbers]
retries = 0
answer_within = "30m"
trial_for = "60s"

[brake]
firmware_limit = 0.02
watch_by = ["hw_rev", "site"]

[[rings]]
name = "bench"
where = "has bench"
soak = "1m"

[[rings]]
name = "pilot"
count = {{pilot}}
spread_over = ["hw_rev", "site"]
soak = "1m"
enough = 0.8

[[rings]]
name = "third"
share = 0.33
spread_over = ["hw_rev", "site"]
soak = "1m"
enough = 0.8

[[rings]]
name = "all"
soak = "1m"
enough = 0.8
"""


@dataclass(frozen=True, slots=True)
class Place:
    """Where the demo keeps what it makes."""

    folder: Path

    @property
    def root_key(self) -> Path:
        return self.folder / "keys" / "root.pem"

    @property
    def signing_key(self) -> Path:
        return self.folder / "keys" / "bench-2026.pem"

    @property
    def key_list(self) -> Path:
        return self.folder / "keys" / "key-list.cose"

    @property
    def board(self) -> Path:
        return self.folder / f"{BOARD}.toml"

    @property
    def other_boards(self) -> tuple[Path, Path, Path]:
        """The board files of gateway, sensor and relay."""
        names = (GATEWAY_BOARD, SENSOR_BOARD, yard.RELAY_BOARD)
        return tuple(self.folder / f"{name}.toml" for name in names)  # type: ignore[return-value]

    def plan(self, version: str) -> Path:
        """The plan file for a version."""
        return self.folder / f"outwards-{version}.toml"

    @property
    def scenario(self) -> Path:
        return self.folder / "apiaries.toml"

    @property
    def flash(self) -> Path:
        return self.folder / "flash"

    @property
    def sheet(self) -> Path:
        return self.folder / f"{LINE}-{NEXT}.toml"

    @property
    def release_file(self) -> Path:
        return self.folder / f"{LINE}-{NEW}.suit"

    def firmware(self, version: str, line: str = LINE) -> Path:
        """The image of a version."""
        return self.folder / "firmware" / f"{line}-{version}.bin"


def make_image(
    version: str,
    seed: int,
    *,
    board: str = BOARD,
    line: str = LINE,
    size: int = IMAGE_SIZE,
    faults: Sequence[Behaviour] | None = None,
) -> bytes:
    """A simulated image: made-up code with a real nameplate and, where it has faults, a behaviour block."""
    rng = random.Random(f"{seed}/{line}/{version}")
    plate = Nameplate(
        line=line,
        board=board,
        component="app",
        version=version,
        floor=4,
        updater=2,
        build_id=f"ta-{rng.randrange(16**8):08x}",
        build_time=BUILT.get(version, 1_780_000_000),
        hw_rev_min=1,
        hw_rev_max=3,
    )
    if faults is None:
        faults = FAULTS.get(version, []) if line == LINE else []
    blocks = encode_nameplate(plate) + encode_behaviour(faults)
    return rng.randbytes(1024) + blocks + rng.randbytes(size - 1024 - len(blocks))


def plan_text(version: str, devices: int) -> str:
    """A plan file: the pilot is a tenth of the fleet, and what nobody has tried yet goes out a few at a time."""
    at_risk = 12 if version == NEW else 60
    return PLAN_TEXT.format(version=version, pilot=max(12, devices // 10), at_risk=at_risk)


def write_files(place: Place, seed: int, devices: int) -> None:
    """Writes board files, the plans of a fleet of so many devices, release sheet and firmware."""
    gateway, sensor, _ = place.other_boards
    yard.write_yard(place.folder, seed)
    texts = {
        place.board: BOARD_FILE + yard.board_places((place.folder / "places" / "root.pem").read_text()),
        gateway: GATEWAY_BOARD_FILE,
        sensor: SENSOR_BOARD_FILE,
        place.sheet: SHEET_FILE,
        **{place.plan(version): plan_text(version, devices) for version in (NEW, FIXED)},
    }
    for path, text in texts.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    place.firmware(OLD).parent.mkdir(parents=True, exist_ok=True)
    for version in (OLD, NEW, FIXED, NEXT, LOCAL):
        place.firmware(version).write_bytes(make_image(version, seed))
    place.firmware(RECOVERY).write_bytes(make_image(RECOVERY, seed, size=SENSOR_IMAGE_SIZE))
    others = ((GATEWAY_VERSION, GATEWAY_BOARD, GATEWAY_LINE), (SENSOR_VERSION, SENSOR_BOARD, SENSOR_LINE))
    for version, board, line in others:
        image = make_image(version, seed, board=board, line=line, size=SENSOR_IMAGE_SIZE)
        place.firmware(version, line).write_bytes(image)
    sounds = random.Random(f"{seed}/sounds").randbytes(96 * 1024)
    (place.folder / "firmware" / "sounds-1.0.0.img").write_bytes(sounds[:8] + b"littlefs" + sounds[16:])


def write_scenario(place: Place, codes: dict[str, str], devices: int, seed: int, *, calm: bool = False) -> None:
    """Writes the scenario: ``devices`` hive scales, of which some stand on the bench, one in a hundred has a worn
    load cell and some lose a transfer half-way; a unit of the lab that runs a build of its own; a gateway with
    sensors behind it. ``codes`` are the enrolment codes by board. Unless it is ``calm``, a yard loses its mains for a
    while and some devices are off-line now and then."""
    rng = random.Random(seed)
    faulty, bench = max(1, devices // WORN_IN), min(BENCH, devices // 5)
    # Not on the bench: there, somebody would have seen it.
    drawn = rng.sample(range(bench, devices), faulty + max(2, devices // 13))
    worn, cut = drawn[:faulty], drawn[faulty:]
    wrong_clock = _first_at(devices, bench, seed)
    away = set(rng.sample(range(bench, devices), 0 if calm else devices // AWAY_IN))
    lines = _head(place, codes, seed, calm)
    for number in range(devices):
        site = rng.choice(list(SITES))
        site = WRONG_CLOCK_SITE if number == wrong_clock else site
        cuts = [round(rng.uniform(0.2, 0.8), 2)] if number in cut else []
        lines += _device(
            f"TA-S1-{number + 1:04d}",
            BOARD,
            LINE,
            place.firmware(OLD),
            place,
            # No hw_rev 2 stands on the bench; elsewhere a third are.
            hw_rev=1 + 2 * (number % 2) if number < bench else 1 + number % 3,
            labels={
                "site": site,
                "yard": rng.choice(YARDS),
                "tz": SITES[site],
                **({"bench": "window"} if number < bench else {}),
            },
            # Never full: a battery that takes no more looks as if something drained it.
            battery={"start": min(95, rng.randint(55, 100)), "drain_per_day": 4, "charge_per_day": 3},
            link={
                "kind": "wifi",
                "bytes_per_s": rng.randrange(6, 20) * 1000,
                "cut_at": cuts,
                **({"offline": AWAY} if number in away else {}),
            },
            **({"quirks": {"load_cell": "worn"}} if number in worn else {}),
            **({"clock_behind": yard.WRONG_CLOCK} if number == wrong_clock else {}),
            images=SCALE_PLACES,
        )
    lab = {"site": "fernhollow", "bench": "window", "tz": SITES["fernhollow"]}
    lab_link = {"wait_s": 20}
    images = SCALE_PLACES
    lines += _device(
        LAB_UNIT, BOARD, LINE, place.firmware(LOCAL), place, hw_rev=3, labels=lab, link=lab_link, images=images
    )
    yard_labels = {"site": "quillmere", "yard": "orchard", "tz": SITES["quillmere"]}
    lines += _device(
        GATEWAY,
        GATEWAY_BOARD,
        GATEWAY_LINE,
        place.firmware(GATEWAY_VERSION, GATEWAY_LINE),
        place,
        hw_rev=1,
        labels=yard_labels,
        link={"kind": "ethernet", "bytes_per_s": 1_000_000, "wait_s": 20},
        restart="40s",
        images={"radio": f"firmware/{GATEWAY_LINE}-radio-0.4.0.bin", yard.SETTINGS: "places/uplink-old.json"},
    )
    relay = f"firmware/{yard.RELAY_LINE}-{{}}-{yard.RELAY_OLD}.bin"
    lines += _device(
        yard.RELAY,
        yard.RELAY_BOARD,
        yard.RELAY_LINE,
        place.folder / relay.format("app"),
        place,
        hw_rev=1,
        labels=yard_labels,
        gateway=GATEWAY,
        link={"kind": "ethernet", "bytes_per_s": 100_000, "wait_s": 20},
        # Its bus breaks at a block of the new image as often as it is tried; the former one goes through again.
        bus={"probe-b": {"breaks_at": yard.BREAKS_AT, "times": 3, "bytes_per_s": 60_000}},
        images={probe: relay.format(probe) for probe in yard.PROBES},
    )
    for number in range(SENSORS + len(OUTSIDE)):
        lines += _device(
            f"TA-R1-{number + 1:04d}",
            SENSOR_BOARD,
            SENSOR_LINE,
            place.firmware(SENSOR_VERSION, SENSOR_LINE),
            place,
            hw_rev=1,
            labels=yard_labels,
            gateway=yard.RELAY,
            # One of them has hardly any left.
            battery={"start": 15 if number == 3 else 91 - 4 * number, "drain_per_day": 1},
            link={"kind": "radio", "bytes_per_s": 4000, "latency_ms": 400, "duty": 0.1, "loss": 0.02, "wait_s": 20},
        )
    place.scenario.write_text("\n".join(lines) + "\n")


def _first_at(devices: int, bench: int, seed: int) -> int:
    """The number of the scale whose clock is wrong: one beyond the bench."""
    return bench + random.Random(f"{seed}/clock").randrange(max(1, devices - bench))


def _head(place: Place, codes: dict[str, str], seed: int, calm: bool) -> list[str]:
    def near(path: Path) -> str:
        return json.dumps(str(path.relative_to(place.folder)))

    return [
        f"seed = {seed}",
        f'vendor_domain = "{VENDOR_DOMAIN}"',
        f"root = {near(place.root_key.with_suffix('.pub.pem'))}",
        f"key_list = {near(place.key_list)}",
        'tls = { certificate = "places/port.pem", key = "places/port.key", trusted = "places/root.pem" }',
        *([] if calm else ["", "[[outages]]", *(f"{name} = {json.dumps(value)}" for name, value in OUTAGE.items())]),
        "",
        f"[boards.{BOARD}]",
        f"code = {json.dumps(codes[BOARD])}",
        f'check_in = "{CHECK_IN_S}s"',
        f"recovery = {near(place.firmware(RECOVERY))}",
        f"parts.app = {{ size = {SLOT_SIZE} }}",
        f"parts.assets = {{ size = {ASSETS_SLOT_SIZE}, slots = 1 }}",
        f'parts."{yard.SETTINGS}" = {{ size = 8192, schema = "places/schema.json" }}',
        f'parts."{yard.CERTIFICATE}" = {{ size = 16384, key = "places/scales.key", trusted = "places/root.pem" }}',
        'parts."file/sounds" = { size = 65536, action = "import" }',
        "",
        f"[boards.{GATEWAY_BOARD}]",
        f"code = {json.dumps(codes[GATEWAY_BOARD])}",
        'check_in = "30s"',
        f"parts.app = {{ size = {SLOT_SIZE} }}",
        "parts.radio = { size = 131072 }",
        f'parts."{yard.SETTINGS}" = {{ size = 8192 }}',
        "",
        f"[boards.{yard.RELAY_BOARD}]",
        f"code = {json.dumps(codes[yard.RELAY_BOARD])}",
        'check_in = "30s"',
        "parts.app = { size = 131072 }",
        *(f"parts.{probe} = {{ size = 196608, streamed = true }}" for probe in yard.PROBES),
        "",
        f"[boards.{SENSOR_BOARD}]",
        f"code = {json.dumps(codes[SENSOR_BOARD])}",
        'check_in = "5m"',
        "parts.app = { size = 65536, slots = 1 }",
    ]


def _device(serial: str, board: str, line: str, image: Path, place: Place, **more: object) -> list[str]:
    own = {"serial": serial, "board": board, "line": line, **more}
    own["images"] = {"app": str(image.relative_to(place.folder)), **(more.get("images") or {})}  # type: ignore[dict-item]
    return ["", "[[devices]]", *(f"{name} = {_toml(value)}" for name, value in own.items())]


def _toml(value: object) -> str:
    if isinstance(value, dict):
        pairs = (f"{json.dumps(key) if '/' in key else key} = {_toml(inner)}" for key, inner in value.items())
        return f"{{ {', '.join(pairs)} }}"
    return json.dumps(value)
