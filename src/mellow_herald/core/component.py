"""What a device is made of: components of several kinds, how they are stored, and what they are called.

Firmware goes by its name (``app``, ``radio``). What is no firmware has a place on the device, and goes by kind and
place (``file/tare-table``, ``settings/main``, ``certificate/uplink``): in manifests two byte strings, everywhere else
one text.
"""

import re
from enum import StrEnum

from mellow_herald.core.refusal import Refused

PLACE = re.compile(r"[A-Za-z0-9][A-Za-z0-9_-]{0,50}")


class Kind(StrEnum):
    """What a component is."""

    FIRMWARE = "firmware"
    FILE = "file"
    SETTINGS = "settings"
    CERTIFICATE = "certificate"


class Storage(StrEnum):
    """How firmware is stored, and so which way back there is. ``STREAMED``: a controller without room for a second
    image; the main controller keeps the new and the previous file and streams them in."""

    TWO_SLOTS = "two-slots"
    IN_PLACE = "in-place"
    STREAMED = "streamed"


# What has a place, and needs no restart.
PLACED = frozenset(Kind) - {Kind.FIRMWARE}


def component_name(kind: Kind, name: str) -> str:
    """What a component is called everywhere but in manifests; ``name`` is its place where it has one."""
    return name if kind is Kind.FIRMWARE else f"{kind.value}/{name}"


def kind_of(name: str) -> Kind:
    """The kind of the component of this name."""
    kind, slash, _ = name.partition("/")
    return Kind(kind) if slash else Kind.FIRMWARE


def place_of(name: str) -> str | None:
    """The place of the component of this name, None for firmware."""
    return name.partition("/")[2] or None


def is_component(name: str) -> bool:
    """Whether this can be the name of a component that has a place."""
    kind, slash, place = name.partition("/")
    return bool(slash) and kind in {one.value for one in PLACED} and PLACE.fullmatch(place) is not None


def check_place(place: str) -> str:
    """A place as it can be named; raises ``Refused``."""
    if PLACE.fullmatch(place) is None:
        raise Refused(
            "bad-place", f"{place!r} is no name of a place.", "Use letters, digits, dashes and underlines, at most 51."
        )
    return place
