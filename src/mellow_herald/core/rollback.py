"""How a device gets back to what it came from, or why it cannot."""

from dataclasses import dataclass
from enum import StrEnum


class Way(StrEnum):
    """How a device goes back."""

    SWITCH_BACK = "switch-back"  # the standby slot still holds it: no download
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
    """The release whose image a device came from. ``gone``: its images were cleaned away."""

    floor: int
    withdrawn: bool = False
    revoked: bool = False
    gone: bool = False


@dataclass(frozen=True, slots=True)
class Left:
    """A device after an attempt: whether it ever ``switched``, the digests of the image it came from, of the one it
    runs, and of the one that stands by, its floor number and that of what stands by. ``former`` is the release it came
    from, None for a build that no release has."""

    switched: bool
    came_from: str | None
    runs: str | None
    standby: str | None = None
    standby_floor: int | None = None
    floor: int | None = None
    former: Former | None = None


def way_back(left: Left) -> Way | Cannot:
    """How this device goes back, or why it cannot."""
    if not left.switched:
        return Cannot.NEVER_LEFT
    if left.came_from is None:
        return Cannot.IMAGE_GONE
    if left.runs == left.came_from:
        return Way.ALREADY_BACK
    former = left.former
    # What stands by counts by the floor number that the device itself has noted of it.
    stands_by = left.standby == left.came_from
    slot_may_run = stands_by and _reaches(left.standby_floor, left.floor)
    if former is None:
        return Way.SWITCH_BACK if slot_may_run else Cannot.BELOW_FLOOR if stands_by else Cannot.IMAGE_GONE
    if not _reaches(former.floor, left.floor):
        return Cannot.BELOW_FLOOR
    if former.revoked:
        return Cannot.REVOKED_KEY
    if former.withdrawn:
        return Cannot.WITHDRAWN
    if slot_may_run:
        return Way.SWITCH_BACK
    return Cannot.IMAGE_GONE if former.gone else Way.REINSTALL


def _reaches(floor: int | None, least: int | None) -> bool:
    """Whether a floor number is high enough, as far as both are known."""
    return floor is None or least is None or floor >= least
