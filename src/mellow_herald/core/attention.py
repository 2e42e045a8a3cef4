"""Which devices need a person, each kind with the selector that finds them."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Call:
    """A kind of device that needs a person; ``where`` is a selector."""

    kind: str
    words: str
    where: str


ASKING = "asking"
CALLS = (
    Call(ASKING, "asking to be admitted", "admission = asking"),
    Call("cloned", "sharing a token with another unit", "cloned = yes"),
    Call("recovery", "running the recovery image", "admission = admitted and runs = recovery"),
    Call("restart-loop", "restarted five times or more within an hour", "admission = admitted and restart_loop = yes"),
    Call("long-offline", "not heard for a week", "admission = admitted and seen > 7d"),
    Call("unknown-build", "running a build that no release has", "admission = admitted and runs = unknown-build"),
    Call("unreadable", "unable to read what runs", "admission = admitted and runs = unreadable"),
    Call("no-updater", "running firmware without an updater", "admission = admitted and updater = 0"),
    Call("rescued", "back after somebody's rescue", "rescued = yes"),
)
