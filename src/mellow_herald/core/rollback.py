"""How a device gets back to what it came from, or why it cannot."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum


class Way(StrEnum):
    """How a device goes back."""

    SWITCH_BACK = "switch-back"  # the standby slots still hold it: no download
    REINSTALL = "reinstall"  # its former release is fetched again
    ALREADY_BACK = "already-back"


class Cannot(StrEnum):
    """Why a device cannot go back."""

    NEVER_LEFT = "never-left"
    BELOW_FLOOR = "below-floor"
    WITHDRAWN = "withdrawn"
    REVOKED_KEY = "revoked-key"
    IMAGE_GONE = "image-gone"


IN_WORDS: dict[Way | Cannot, str] = {
    Way.SWITCH_BACK: "switch back to what stands in the other slot, without a download",
    Way.REINSTALL: "fetch what they came from again",
    Way.ALREADY_BACK: "run again what they came from",
    Cannot.NEVER_LEFT: "never switched to the release",
    Cannot.BELOW_FLOOR: "their floor number is above that of what they came from",
    Cannot.WITHDRAWN: "what they came from has been withdrawn",
    Cannot.REVOKED_KEY: "the key that signed what they came from is revoked",
    Cannot.IMAGE_GONE: "no slot and no release has the bytes they came from any more",
}


@dataclass(frozen=True, slots=True)
class Former:
    """A release that has every image that a device came from. ``gone``: its images were cleaned away."""

    floor: int
    withdrawn: bool = False
    revoked: bool = False
    gone: bool = False


@dataclass(frozen=True, slots=True)
class StandbyImage:
    """What a slot that stands by holds: the image's digest, and the floor number that the device noted of it."""

    digest: str
    floor: int | None = None


@dataclass(frozen=True, slots=True)
class Left:
    """A device after an attempt: whether it ever ``switched``; by component, the digests of what it came from and of
    what it runs, and what stands by; and its floor number. ``former`` is the release it came from, None where no one
    release has all of it."""

    switched: bool
    came_from: Mapping[str, str]
    runs: Mapping[str, str | None]
    standby: Mapping[str, StandbyImage] = field(default_factory=dict)
    floor: int | None = None
    former: Former | None = None


def way_back(left: Left) -> Way | Cannot:
    """How this device goes back, or why it cannot: all its components together."""
    if not left.switched:
        return Cannot.NEVER_LEFT
    if not left.came_from:
        return Cannot.IMAGE_GONE
    missing = {name: digest for name, digest in left.came_from.items() if left.runs.get(name) != digest}
    if not missing:
        return Way.ALREADY_BACK
    former = left.former
    # What stands by counts by the floor number that the device itself has noted of it.
    held = [left.standby.get(name) for name in missing]
    stands_by = all(one is not None and one.digest == missing[name] for name, one in zip(missing, held, strict=True))
    slots_may_run = stands_by and all(one is not None and _reaches(one.floor, left.floor) for one in held)
    if former is None:
        return Way.SWITCH_BACK if slots_may_run else Cannot.BELOW_FLOOR if stands_by else Cannot.IMAGE_GONE
    if not _reaches(former.floor, left.floor):
        return Cannot.BELOW_FLOOR
    if former.revoked:
        return Cannot.REVOKED_KEY
    if former.withdrawn:
        return Cannot.WITHDRAWN
    if slots_may_run:
        return Way.SWITCH_BACK
    return Cannot.IMAGE_GONE if former.gone else Way.REINSTALL


def _reaches(floor: int | None, least: int | None) -> bool:
    """Whether a floor number is high enough, as far as both are known."""
    return floor is None or least is None or floor >= least
