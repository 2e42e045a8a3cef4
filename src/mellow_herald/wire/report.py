"""What happened in a rollout, for people who were not there."""

from mellow_herald.core.attempt import State
from mellow_herald.wire.brake import BrakesOut
from mellow_herald.wire.event import JournalEntry
from mellow_herald.wire.model import Shown, Time
from mellow_herald.wire.rollout import RolloutOut
from mellow_herald.wire.suspect import SuspectsOut


class CoursePoint(Shown):
    """How many devices were in which state at a time."""

    at: Time
    states: dict[State, int]


class CourseOut(Shown):
    """States over time, oldest first; the last point is now, or when the rollout ended."""

    points: list[CoursePoint]


class Spent(Shown):
    """How long the devices of a ring spent on one leg of their way, in seconds of service time: of ``devices`` that
    went it, the median, nearly all (95 %), and the longest."""

    leg: str
    devices: int
    median_s: float
    nearly_all_s: float
    longest_s: float


class RingReport(Shown):
    """Where the time of a ring went."""

    position: int
    name: str
    opened_at: Time | None
    done_at: Time | None
    devices: int
    good: int
    bad: int
    spent: list[Spent]


class FailureReport(Shown):
    """A device that went bad, with its last words."""

    serial: str
    hw_rev: int
    ring: int
    state: State
    reason: str | None
    at: Time
    detail: str
    log: str


class ReportOut(Shown):
    """What was planned, what happened, who decided what, and where the time went."""

    now: Time
    rollout: RolloutOut
    rings: list[RingReport]
    course: CourseOut
    brakes: BrakesOut
    suspects: SuspectsOut
    failures: list[FailureReport]
    decisions: list[JournalEntry]
