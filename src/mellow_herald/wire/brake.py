"""What the brakes of a rollout show, and what its failing devices have in common."""

from mellow_herald.core.plan import BrakeKind
from mellow_herald.wire.model import Shown, Time


class StreamOut(Shown):
    """One place where evidence is kept: ``bad`` of ``seen`` devices there, its ``evidence`` and its ``weight`` in the
    mean."""

    name: str
    weight: float
    seen: int
    bad: int
    evidence: float


class EvidencePoint(Shown):
    """What a brake showed at a time."""

    at: Time
    evidence: float
    seen: int
    bad: int


class BrakeOut(Shown):
    """One brake: it halts when ``evidence`` reaches ``halts_at``; ``near`` from a quarter of that on, where no further
    ring opens by itself. ``bad`` of ``seen`` devices count in this round (a cluster has one vote). ``strongest`` is
    where evidence is highest, None if that is the whole rollout."""

    kind: BrakeKind
    limit: float
    halts_at: float
    evidence: float
    near: bool
    halts: bool
    bad: int
    seen: int
    words: str
    strongest: str | None
    streams: list[StreamOut]
    history: list[EvidencePoint]


class ReadingBeside(Shown):
    """A watched reading: its median among the updated devices and among those that are not, as they say it now."""

    name: str
    updated: float | None
    updated_devices: int
    others: float | None
    other_devices: int


class ControlOut(Shown):
    """The same signals among devices of the rollout that are not updated yet, in the same hours: how many
    ``restarted``, ``fell_silent``, or either (``bad``), beside those that are updated. An outage of ours or of a
    network shows in both."""

    devices: int
    restarted: int
    fell_silent: int
    bad: int
    updated_devices: int
    updated_restarted: int
    updated_fell_silent: int
    updated_bad: int
    readings: list[ReadingBeside]
    words: str


class BrakesOut(Shown):
    """The brakes of a rollout in its present round (from 1), which began at ``round_at``."""

    round: int
    round_at: Time | None
    alpha: float
    brakes: list[BrakeOut]
    control: ControlOut | None
