"""What a simulated device is made with."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from mellow_herald.sim.scenario import Outage


@dataclass(frozen=True, slots=True)
class PlaceMaking:
    """What a board's devices know of a place by its component's name: the JSON ``schema`` of settings; for a
    certificate the device's own private ``key`` (PEM) and the ``trusted`` ones (PEM)."""

    schema: Mapping[str, Any] | None = None
    key: bytes = b""
    trusted: bytes = b""


@dataclass(frozen=True, slots=True)
class Making:
    """What all devices of a board are made with; durations in seconds. ``outages`` meet this device; ``actions`` run
    after a file was taken into use, by component; ``places`` is what is known of places; ``start_within_s``
    is real time: thousands that start at the same moment would be a flood."""

    root: bytes
    key_list: bytes
    vendor_domain: str
    code: str
    check_in_s: float
    seed: int = 1
    outages: tuple[Outage, ...] = ()
    actions: Mapping[str, str] = field(default_factory=dict)
    places: Mapping[str, PlaceMaking] = field(default_factory=dict)
    start_within_s: float = 0.0
