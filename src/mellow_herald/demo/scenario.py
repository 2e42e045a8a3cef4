"""Who and what there is at Thistledown Apiaries: boards, hive scales, firmware, a plan."""

import json
import random
from dataclasses import dataclass
from pathlib import Path

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.nameplate import Nameplate, encode_nameplate

VENDOR_DOMAIN = "thistledown.example"
BOARD, LINE = "comb-s1", "hive-scale"
SLOT_SIZE = 512 * 1024
ASSETS_SLOT_SIZE = 256 * 1024
CHECK_IN_S = 60
OLD, NEW, NEXT = "2.4.0", "2.5.0", "2.6.0-rc.1"
SITES = {
    "fernhollow": "Europe/Lisbon",
    "quillmere": "Europe/Dublin",
    "ottersedge": "Europe/Dublin",
    "bramblecote": "Europe/Berlin",
    "saltgrass": "Atlantic/Azores",
}
YARDS = ("north", "orchard", "brook")
IMAGE_SIZE = 192 * 1024
BUILT = {OLD: 1_788_000_000, NEW: 1_795_000_000, NEXT: 1_795_300_000}
FAULTS = {NEW: [Behaviour("load_cell = worn", Fault.FAIL_SELF_TEST)]}
RELEASE = f"{BOARD}/{LINE}/{NEW}"

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

PLAN_FILE = f"""\
# Everyone at once: right for a bench, or for a fleet as small as this one.
name = "{NEW} to all hive scales"
release = "{RELEASE}"
target = "board = {BOARD} and line = {LINE}"

[numbers]
retries = 0
answer_within = "30m"
trial_for = "60s"

[[rings]]
name = "everyone"
soak = "1m"
enough = 0.9
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
    def plan(self) -> Path:
        return self.folder / f"everyone-{NEW}.toml"

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

    def firmware(self, version: str) -> Path:
        """The image of a version."""
        return self.folder / "firmware" / f"{LINE}-{version}.bin"


def make_image(version: str, seed: int) -> bytes:
    """A simulated image: made-up code with a real nameplate and, where it has faults, a behaviour block."""
    rng = random.Random(f"{seed}/{version}")
    plate = Nameplate(
        line=LINE,
        board=BOARD,
        component="app",
        version=version,
        floor=4,
        updater=1,
        build_id=f"ta-{rng.randrange(16**8):08x}",
        build_time=BUILT[version],
        hw_rev_min=1,
        hw_rev_max=3,
    )
    blocks = encode_nameplate(plate) + encode_behaviour(FAULTS.get(version, []))
    return rng.randbytes(1024) + blocks + rng.randbytes(IMAGE_SIZE - 1024 - len(blocks))


def write_files(place: Place, seed: int) -> None:
    """Writes board file, plan, release sheet and firmware."""
    for path, text in ((place.board, BOARD_FILE), (place.plan, PLAN_FILE), (place.sheet, SHEET_FILE)):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    for version in (OLD, NEW, NEXT):
        place.firmware(version).parent.mkdir(parents=True, exist_ok=True)
        place.firmware(version).write_bytes(make_image(version, seed))
    sounds = random.Random(f"{seed}/sounds").randbytes(96 * 1024)
    (place.folder / "firmware" / "sounds-1.0.0.img").write_bytes(sounds[:8] + b"littlefs" + sounds[16:])


def write_scenario(place: Place, code: str, devices: int, seed: int) -> None:
    """Writes the scenario of ``devices`` hive scales: one has a worn load cell, some lose a transfer half-way."""
    rng = random.Random(seed)
    worn, *cut = rng.sample(range(devices), 1 + max(2, devices // 13))
    lines = [
        f"seed = {seed}",
        f'vendor_domain = "{VENDOR_DOMAIN}"',
        f'root = "{place.root_key.with_suffix(".pub.pem").relative_to(place.folder)}"',
        f'key_list = "{place.key_list.relative_to(place.folder)}"',
        f"code = {json.dumps(code)}",
        f"slot_size = {SLOT_SIZE}",
        f"check_in_s = {CHECK_IN_S}",
    ]
    for number in range(devices):
        site = rng.choice(list(SITES))
        labels = {"site": site, "yard": rng.choice(YARDS), "tz": SITES[site]}
        cuts = [round(rng.uniform(0.2, 0.8), 2)] if number in cut else []
        lines += [
            "",
            "[[devices]]",
            f'serial = "TA-S1-{number + 1:04d}"',
            f'board = "{BOARD}"',
            f'line = "{LINE}"',
            f"hw_rev = {rng.choice((1, 2, 3))}",
            f"labels = {{ {', '.join(f'{key} = {json.dumps(value)}' for key, value in labels.items())} }}",
            f"battery = {rng.randint(55, 100)}",
            f'image = "{place.firmware(OLD).relative_to(place.folder)}"',
            f"link = {{ bytes_per_s = {rng.randrange(6, 20) * 1000}, latency_ms = 40, cut_at = {cuts} }}",
        ]
        if number == worn:
            lines.append('quirks = { load_cell = "worn" }')
    place.scenario.write_text("\n".join(lines) + "\n")
