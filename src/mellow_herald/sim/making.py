"""What a simulated device is made with."""

from dataclasses import dataclass

from mellow_herald.sim.scenario import Outage


@dataclass(frozen=True, slots=True)
class Making:
    """What all devices of a board are made with; durations in seconds. ``outages`` meet this device; ``start_within_s``
    is real time: thousands that start at the same moment would be a flood."""

    root: bytes
    key_list: bytes
    vendor_domain: str
    code: str
    check_in_s: float
    seed: int = 1
    outages: tuple[Outage, ...] = ()
    start_within_s: float = 0.0
