"""The meadow of the third act: sensors on narrow radio, reached all at once by what is sent to their group."""

import json
import random
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mellow_herald.core.behaviour import Behaviour, Fault
from mellow_herald.demo import scenario

BOARD, LINE = "bract-r3", "forage-sensor"
OLD, NEW = "0.9.1", "1.0.0"
BOARD_FILE = f"""\
# The forage sensor of the meadow: on narrow radio alone, with room for a second image.
name = "{BOARD}"
vendor_domain = "thistledown.example"
lines = ["{LINE}"]
hw_revs = [1]
check_in = "10m"

[[slots]]
name = "a"
size = 65536

[[slots]]
name = "b"
size = 65536
"""
SENSORS = 60
# What is sent, envelope and image, is about 1,525 fragments of 40 bytes.
FRAGMENT, IMAGE_SIZE = 40, 60_400
# One whose moisture probe is worn: its self-test fails, and it says so.
WORN = 17
# Two whose root key is not on record, and two that are out of reach while the others are prepared.
NO_KEY = (8, 41)
AWAY, AWAY_FOR = (23, 52), "60m"
EVERY = "6m"
PARTS = "parts.app = { size = 65536 }"


@dataclass(frozen=True, slots=True)
class Sensor:
    """A sensor: the particulars of its ``radio`` as docs/scenario.md has them, and whether its probe is ``worn``."""

    serial: str
    radio: dict[str, Any] = field(default_factory=dict)
    worn: bool = False


def serial(number: int) -> str:
    """The serial of a sensor, from 1."""
    return f"TA-F1-{number:03d}"


def make_image(version: str, seed: int, *, board: str = BOARD, size: int = IMAGE_SIZE) -> bytes:
    """The sensors' firmware: its self-test fails where the probe is worn."""
    faults = [Behaviour("probe = worn", Fault.FAIL_SELF_TEST)] if version == NEW else []
    return scenario.make_image(version, seed, board=board, line=LINE, size=size, faults=faults)


def sensors(seed: int) -> list[Sensor]:
    """The sixty of the demo: they lose some of what is sent to them, in bursts, and no two clocks agree."""
    rng = random.Random(f"{seed}/meadow")
    return [
        Sensor(
            serial(number),
            {
                "every": EVERY,
                "loss": round(rng.uniform(0.06, 0.1), 3),
                "burst": rng.choice([3, 5, 8]),
                "clock_off_s": round(rng.uniform(-5, 5), 1),
                "drift_ppm": round(rng.uniform(-30, 30), 1),
                "most_fragment": FRAGMENT,
                "key_on_record": number not in NO_KEY,
            },
            number == WORN,
        )
        for number in range(1, SENSORS + 1)
    ]


def scenario_text(
    head: Mapping[str, str], board: str, parts: str, code: str, image: str, field: Iterable[Sensor], seed: int
) -> str:
    """A scenario of sensors on narrow radio. ``head`` are the paths of root key and key list, ``parts`` a line on
    their flash, ``image`` the path of what they run."""
    rng = random.Random(f"{seed}/batteries")
    lines = [
        "# Forage sensors in a meadow, on narrow radio.",
        f"seed = {seed}",
        'vendor_domain = "thistledown.example"',
        *(f"{name} = {json.dumps(value)}" for name, value in head.items()),
        "",
        f"[boards.{board}]",
        f"code = {json.dumps(code)}",
        parts,
    ]
    for one in field:
        lines += [
            "",
            "[[devices]]",
            f"serial = {json.dumps(one.serial)}",
            f"board = {json.dumps(board)}",
            f"line = {json.dumps(LINE)}",
            'labels = { site = "quillmere", yard = "meadow", tz = "Europe/Dublin" }',
            *(['quirks = { probe = "worn" }'] if one.worn else []),
            f"battery = {{ start = {rng.randint(60, 98)}, drain_per_day = 0.1 }}",
            f"images = {{ app = {json.dumps(image)} }}",
            f"radio = {inline(one.radio)}",
        ]
    return "\n".join(lines) + "\n"


def inline(values: Mapping[str, object]) -> str:
    """A table as TOML has it on one line."""
    return "{ " + ", ".join(f"{name} = {json.dumps(value)}" for name, value in values.items()) + " }"


def plan_text(board: str, version: str) -> str:
    """The plan of the sensors."""
    return f"""\
# The sensors of the meadow, all at once: what is sent to their group is sent once.
name = "{version} to the meadow"
release = "{board}/{LINE}/{version}"
target = "board = {board} and has radio"

[radio]
data_rate = 5
redundancy = 15

[numbers]
answer_within = "90m"
retries = 8
trial_for = "10m"

[brake]
firmware_limit = 0.1
delivery_limit = 0.9

[[rings]]
name = "meadow"
soak = "10m"
enough = 0.8
"""


def write_files(folder: Path, seed: int) -> None:
    """Writes board file, firmware and plan."""
    (folder / f"{BOARD}.toml").write_text(BOARD_FILE)
    for version in (OLD, NEW):
        (folder / "firmware" / f"meadow-{version}.bin").write_bytes(make_image(version, seed))
    (folder / "sensors.toml").write_text(plan_text(BOARD, NEW))
