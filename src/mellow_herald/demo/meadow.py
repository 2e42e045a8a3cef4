"""The meadow of the third act: sensors on narrow radio, reached all at once by what is sent to their group."""

import json
import random
from pathlib import Path

from mellow_herald.core.behaviour import Behaviour, Fault, encode_behaviour
from mellow_herald.core.nameplate import Nameplate, encode_nameplate

BOARD, LINE = "bract-r1", "forage-sensor"
OLD, NEW = "0.9.1", "1.0.0"
SENSORS = 60
# What is sent, envelope and image, is 1,525 fragments of 40 bytes.
FRAGMENT, IMAGE_SIZE = 40, 60_600
# One whose moisture probe is worn: its self-test fails, and it says so.
WORN = 17
# Two whose root key is not on record, and two that are out of reach while the others are prepared.
NO_KEY = (8, 41)
AWAY, AWAY_FOR = (23, 52), "100m"
EVERY = "10m"


def serial(number: int) -> str:
    """The serial of a sensor, from 1."""
    return f"TA-F1-{number:03d}"


def write_image(path: Path, seed: int) -> None:
    """Writes the sensors' new firmware."""
    rng = random.Random(f"{seed}/{LINE}/{NEW}")
    plate = Nameplate(
        line=LINE,
        board=BOARD,
        component="app",
        version=NEW,
        floor=4,
        updater=2,
        build_id=f"ta-{rng.randrange(16**8):08x}",
        build_time=1_795_100_000,
        hw_rev_min=1,
        hw_rev_max=3,
    )
    blocks = encode_nameplate(plate) + encode_behaviour([Behaviour("probe = worn", Fault.FAIL_SELF_TEST)])
    path.write_bytes(rng.randbytes(1024) + blocks + rng.randbytes(IMAGE_SIZE - 1024 - len(blocks)))


def write_scenario(path: Path, head: dict[str, str], code: str, image: str, gateway: str, seed: int) -> None:
    """Writes the scenario of the meadow: sensors that lose some of what is sent to them, in bursts. ``head`` are the
    paths of root key and key list, ``image`` that of what they run."""
    rng = random.Random(f"{seed}/meadow")
    lines = [
        "# Sixty forage sensors in a meadow, on narrow radio.",
        f"seed = {seed}",
        'vendor_domain = "thistledown.example"',
        *(f"{name} = {json.dumps(value)}" for name, value in head.items()),
        "",
        f"[boards.{BOARD}]",
        f"code = {json.dumps(code)}",
        "parts.app = { size = 65536, slots = 1 }",
    ]
    for number in range(1, SENSORS + 1):
        radio = {
            "every": EVERY,
            "loss": round(rng.uniform(0.05, 0.11), 3),
            "burst": rng.choice([3, 5, 8]),
            "clock_off_s": round(rng.uniform(-5, 5), 1),
            "drift_ppm": round(rng.uniform(-30, 30), 1),
            "most_fragment": FRAGMENT,
            "key_on_record": number not in NO_KEY,
        }
        lines += [
            "",
            "[[devices]]",
            f"serial = {json.dumps(serial(number))}",
            f"board = {json.dumps(BOARD)}",
            f"line = {json.dumps(LINE)}",
            f"gateway = {json.dumps(gateway)}",
            'labels = { site = "quillmere", yard = "meadow", tz = "Europe/Dublin" }',
            *(['quirks = { probe = "worn" }'] if number == WORN else []),
            f"battery = {{ start = {rng.randint(60, 98)}, drain_per_day = 0.1 }}",
            f"images = {{ app = {json.dumps(image)} }}",
            f"radio = {_inline(radio)}",
        ]
    path.write_text("\n".join(lines) + "\n")


def _inline(values: dict[str, object]) -> str:
    return "{ " + ", ".join(f"{name} = {json.dumps(value)}" for name, value in values.items()) + " }"


PLAN_TEXT = f"""\
# The sensors of the meadow, all at once: what is sent to their group is sent once.
name = "{{version}} to the meadow"
release = "{BOARD}/{LINE}/{{version}}"
target = "board = {BOARD} and has radio"

[radio]
data_rate = 4
redundancy = 15

[numbers]
answer_within = "90m"
retries = 1
trial_for = "10m"

[brake]
firmware_limit = 0.1
delivery_limit = 0.3

[[rings]]
name = "meadow"
soak = "30m"
enough = 0.8
"""


def write_plan(path: Path) -> None:
    """Writes the plan of the sensors."""
    path.write_text(PLAN_TEXT.format(version=NEW))
