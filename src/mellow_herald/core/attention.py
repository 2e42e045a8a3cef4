"""Which devices need a person, each kind with the selector that finds them."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Call:
    """A kind of device that needs a person; ``where`` is a selector."""

    kind: str
    words: str
    where: str


CALLS = (
    Call("asking", "ask to be admitted", "admission = asking"),
    Call("cloned", "share their token with another unit", "cloned = yes"),
    Call("recovery", "run their recovery image", "admission = admitted and runs = recovery"),
    Call("restart-loop", "restarted five times or more within an hour", "admission = admitted and restart_loop = yes"),
    Call("long-offline", "were not heard for a week", "admission = admitted and seen > 7d"),
    Call("unknown-build", "run a build that no release has", "admission = admitted and runs = unknown-build"),
    Call("unreadable", "cannot read what they run", "admission = admitted and runs = unreadable"),
    Call("no-updater", "run firmware without an updater", "admission = admitted and updater = 0"),
    Call("rescued", "came back after somebody rescued them", "rescued = yes"),
)
