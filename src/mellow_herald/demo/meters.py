"""The meters of the third act: they speak CoAP and the standard's update object, beside sensors on narrow radio."""

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mellow_herald.core.behaviour import Behaviour, Fault
from mellow_herald.demo import scenario
from mellow_herald.demo.meadow import inline

BOARD, LINE = "bract-r2", "water-meter"
OLD, NEW = "2.1.0", "2.2.0"
BOARD_FILE = f"""\
# The water meter of the meadow: it speaks CoAP alone, with room for a second image.
name = "{BOARD}"
vendor_domain = "thistledown.example"
lines = ["{LINE}"]
hw_revs = [1]
check_in = "5m"

[[slots]]
name = "a"
size = 65536

[[slots]]
name = "b"
size = 65536
"""
METERS, IMAGE_SIZE = 12, 30_000
PARTS = "parts.app = { size = 65536 }"
# One whose valve is worn: its self-test fails, and it goes back.
WORN = 9


@dataclass(frozen=True, slots=True)
class Meter:
    """A meter: the particulars of its ``coap`` as docs/scenario.md has them, and whether its valve is ``worn``."""

    serial: str
    coap: dict[str, Any] = field(default_factory=dict)
    worn: bool = False


def serial(number: int) -> str:
    """The serial of a meter, from 1."""
    return f"TA-W1-{number:03d}"


def make_image(version: str, seed: int, *, board: str = BOARD, size: int = IMAGE_SIZE) -> bytes:
    """The meters' firmware: its self-test fails where the valve is worn."""
    faults = [Behaviour("valve = worn", Fault.FAIL_SELF_TEST)] if version == NEW else []
    return scenario.make_image(version, seed, board=board, line=LINE, size=size, faults=faults)


def meters() -> list[Meter]:
    """The twelve of the demo: half fetch, one of them by HTTP; half are written to, two of them hear seldom."""
    found = []
    for number in range(1, METERS + 1):
        coap: dict[str, Any] = {"delivery": "pull" if number % 2 else "push", "lifetime": "5m"}
        if number == 5:
            coap["protocols"] = ["http"]
        if number in (2, 8):
            coap["queue"] = True
        found.append(Meter(serial(number), coap, number == WORN))
    return found


def scenario_text(
    head: Mapping[str, str], board: str, parts: str, code: str, image: str, field: Iterable[Meter], seed: int
) -> str:
    """A scenario of meters. ``head`` are the paths of root key and key list, ``parts`` a line on their flash, ``image``
    the path of what they run."""
    lines = [
        "# Water meters that speak CoAP.",
        f"seed = {seed}",
        'vendor_domain = "thistledown.example"',
        *(f"{name} = {json.dumps(value)}" for name, value in head.items()),
        "",
        f"[boards.{board}]",
        f"code = {json.dumps(code)}",
        'check_in = "5m"',
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
            *(['quirks = { valve = "worn" }'] if one.worn else []),
            "battery = { start = 90, drain_per_day = 0.1 }",
            f"images = {{ app = {json.dumps(image)} }}",
            *([f"coap = {inline(one.coap)}"] if one.coap else []),
        ]
    return "\n".join(lines) + "\n"


def plan_text(board: str, version: str) -> str:
    """The plan of the meters."""
    return f"""\
# The meters of the meadow: those that fetch and those that are written to are in one ring.
name = "{version} to the meters"
release = "{board}/{LINE}/{version}"
target = "board = {board}"

[coap]
block = 512

[numbers]
answer_within = "60m"
retries = 0
trial_for = "10m"

[brake]
firmware_limit = 0.3
delivery_limit = 0.3

[[rings]]
name = "meters"
soak = "5m"
enough = 0.8
"""


def write_files(folder: Path, seed: int) -> None:
    """Writes board file, firmware and plan."""
    (folder / f"{BOARD}.toml").write_text(BOARD_FILE)
    for version in (OLD, NEW):
        (folder / "firmware" / f"meter-{version}.bin").write_bytes(make_image(version, seed))
    (folder / "meters.toml").write_text(plan_text(BOARD, NEW))
