"""The behaviour block of a simulated image: which faults it has, on which devices.

Only simulated devices look at it. It stands anywhere in the image: 8 bytes magic, 2 bytes length (little endian),
a CBOR array of ``{when, do, chance}``: a selector over the device's facts, a fault, and a share in per mille.
"""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core import cbor
from mellow_herald.core.selector import matches, parse_selector
from mellow_herald.core.selector.match import Facts

MAGIC = bytes.fromhex("8e4d48425648a501")
ALWAYS = 1000


class Fault(StrEnum):
    """What a simulated firmware can get wrong."""

    FAIL_SELF_TEST = "fail-self-test"
    CRASH_AT_BOOT = "crash-at-boot"
    HANG = "hang"
    LEAK = "leak"  # runs out of memory some time after it confirmed, and crashes, again and again
    NO_UPDATER = "no-updater"  # never calls the service again
    DRAINS_BATTERY = "drains-battery"  # takes three times as much of the battery as usual; nothing else is wrong
    WIPE_SETTINGS = "wipe-settings"
    FAIL_ACTION = "fail-action"  # of a file: what runs after it ends with a status that is not 0
    HANG_ACTION = "hang-action"  # of a file: what runs after it does not end


@dataclass(frozen=True, slots=True)
class Behaviour:
    """One rule: devices that match ``when`` show ``fault`` with a chance of ``chance`` per mille."""

    when: str
    fault: Fault
    chance: int = ALWAYS


def encode_behaviour(rules: Sequence[Behaviour]) -> bytes:
    """The bytes to place in a simulated image."""
    body = cbor.encode([{"when": rule.when, "do": rule.fault.value, "chance": rule.chance} for rule in rules])
    return MAGIC + len(body).to_bytes(2, "little") + body


def find_behaviour(image: bytes) -> tuple[Behaviour, ...]:
    """The rules in an image; none if it carries no block."""
    at = image.find(MAGIC)
    if at < 0:
        return ()
    start = at + len(MAGIC) + 2
    length = int.from_bytes(image[start - 2 : start], "little")
    body = cbor.decode(image[start : start + length])
    return tuple(Behaviour(rule["when"], Fault(rule["do"]), rule["chance"]) for rule in body)


def faults_of(rules: Sequence[Behaviour], facts: Facts, digest: str, seed: int) -> frozenset[Fault]:
    """The faults a device with these facts shows when it runs the image ``digest``; the same every time."""
    shown = set()
    for index, rule in enumerate(rules):
        if not matches(parse_selector(rule.when), facts):
            continue
        drawn = hashlib.sha256(f"{seed}/{facts['serial']}/{digest}/{index}".encode()).digest()
        if int.from_bytes(drawn[:4], "big") % ALWAYS < rule.chance:
            shown.add(rule.fault)
    return frozenset(shown)
