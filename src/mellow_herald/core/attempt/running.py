"""What a device runs, held against what its attempt is to bring it to: that decides, before any memory of what it was
told."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from enum import StrEnum

from mellow_herald.core.firmware import APP

Digests = Mapping[str, str | None]
Wanted = Mapping[str, Collection[str]]


class Runs(StrEnum):
    """What a device runs, as one of its attempts sees it."""

    TARGET = "target"  # every component of the release
    PARTLY = "partly"  # some components of the release, of the others what it came from
    FORMER = "former"  # what it came from
    OTHER = "other"  # a component runs neither: somebody else's doing
    RECOVERY = "recovery"  # nothing but the recovery image
    UNREADABLE = "unreadable"  # it does not know itself


@dataclass(frozen=True, slots=True)
class Shown:
    """What a check-in shows: what the device ``runs``, by which (``boots``, ``seq``) it was said, and whether that is
    on ``trial`` (None: a device of updater 1 does not say). On a way ``back`` who runs the target has arrived, however
    it came there; ``again`` is where the release was what the device came from already, so that digests tell
    nothing. ``given_up`` is why a component that does not count here was given up, where the others went on
    without it."""

    runs: Runs
    boots: int
    seq: int
    trial: bool | None = False
    back: bool = False
    again: bool = False
    given_up: str | None = None


def judge(
    wanted: Wanted,
    former: Digests,
    running: Digests,
    *,
    in_recovery: bool = False,
    in_place: Collection[str] = frozenset(),
) -> Runs:
    """What a device runs: ``wanted`` are the digests of each of the release's components (an image of each slot has its
    own), ``former`` what the device came from, ``running`` what it says it runs.

    ``in_place`` are components with a single slot: there a missing digest is a copy that was cut off half-way, and
    leaves but the recovery image.
    """
    found = {
        _judge_one(digests, former.get(name), running.get(name), in_recovery and _gone(name, running), name in in_place)
        for name, digests in wanted.items()
    }
    for worst in (Runs.OTHER, Runs.RECOVERY, Runs.UNREADABLE):
        if worst in found:
            return worst
    if found == {Runs.TARGET}:
        return Runs.TARGET
    return Runs.PARTLY if Runs.TARGET in found else Runs.FORMER


def _gone(name: str, running: Digests) -> bool:
    """Whether recovery stands in for a component: it does for ``app``, and for what it does not name."""
    return name == APP or running.get(name) is None


def _judge_one(
    wanted: Collection[str], former: str | None, running: str | None, in_recovery: bool, in_place: bool
) -> Runs:
    if running is not None and running in wanted:
        return Runs.TARGET
    if running == former:
        return Runs.FORMER
    if in_recovery or (running is None and in_place):
        return Runs.RECOVERY
    if running is None:
        return Runs.UNREADABLE
    # Where nothing was known of it before, what it says now is what it came from.
    return Runs.FORMER if former is None else Runs.OTHER


def is_again(wanted: Wanted, former: Digests) -> bool:
    """Whether the release is what the device came from: it is installed once more because somebody wants it so."""
    return all(former.get(name) in digests for name, digests in wanted.items())


def target_digests(wanted: Wanted, running: Digests, standby: Digests) -> dict[str, str]:
    """What a device is to run after a switch, by component: what it runs of it already, or what stands by; where it
    does not say what stands by, the only image that there is."""
    chosen = {}
    for name, digests in wanted.items():
        candidates = [running.get(name), standby.get(name), *(digests if len(digests) == 1 else ())]
        digest = next((one for one in candidates if one is not None and one in digests), None)
        if digest is not None:
            chosen[name] = digest
    return chosen
