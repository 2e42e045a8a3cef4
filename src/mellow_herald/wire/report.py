"""What happened in a rollout, for people who were not there."""

from typing import Any

from pydantic import Field

from mellow_herald.core.attempt import State
from mellow_herald.wire.brake import BrakesOut
from mellow_herald.wire.comparison import ComparisonOut
from mellow_herald.wire.event import JournalEntry
from mellow_herald.wire.model import Shown, Time
from mellow_herald.wire.radio import RadioSessionOut
from mellow_herald.wire.readings import ChangeOut
from mellow_herald.wire.rehearsal import RehearsalOut
from mellow_herald.wire.rollout import HarmWaveOut, RolloutOut
from mellow_herald.wire.say import ApprovalOut, EvidenceListOut
from mellow_herald.wire.suspect import SuspectsOut
from mellow_herald.wire.topology import AlarmOut


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
    """Where the time of a ring went: ``spent`` on each leg, and what that is in the ``phases`` of staging and
    switching."""

    position: int
    name: str
    opened_at: Time | None
    done_at: Time | None
    devices: int
    good: int
    bad: int
    spent: list[Spent]
    phases: list[Spent]


class FailureOut(Shown):
    """A try that went bad: why, and what its device told of it (or, where ``said_by`` is ``service``, what the service
    saw): the self-tests, and its log, of which the last few lines where not all were asked for; ``log_lines`` is how
    many there are. ``state`` is that of its attempt now, ``facts`` are the device's as they were
    when its ring opened; ``left_out`` tells that the rollout went on without it."""

    attempt_id: int
    serial: str
    hw_rev: int
    ring: int
    state: State
    from_version: str | None
    facts: dict[str, str]
    at: Time
    try_number: int
    tries: int
    reason: str
    said_by: str
    component: str | None
    detail: str
    tests: list[dict[str, Any]]
    log: str
    log_lines: int
    left_out: bool


class ReportOut(Shown):
    """What was planned, what happened, who decided what, and where the time went; ``alarms`` are those of neighbours
    that it explains, ``sessions`` those in which devices on narrow radio were reached, without their members;
    ``changes`` what it did to the readings that its brake watches over time, ``waves`` those of its harm budget;
    ``evidence`` is what was heard outside, ``approvals`` who approved, and what they saw;
    ``rehearsals`` are those of its plan that were done before it was started, ``comparison`` its two releases side by
    side."""

    now: Time
    rollout: RolloutOut
    rings: list[RingReport]
    course: CourseOut
    brakes: BrakesOut
    suspects: SuspectsOut
    failures: list[FailureOut]
    decisions: list[JournalEntry]
    alarms: list[AlarmOut] = Field(default_factory=list)
    sessions: list[RadioSessionOut] = Field(default_factory=list)
    changes: list[ChangeOut] = Field(default_factory=list)
    waves: list[HarmWaveOut] = Field(default_factory=list)
    evidence: EvidenceListOut | None = None
    approvals: list[ApprovalOut] = Field(default_factory=list)
    rehearsals: list[RehearsalOut] = Field(default_factory=list)
    comparison: ComparisonOut | None = None
