"""Rollouts and attempts."""

from typing import Annotated

from pydantic import Field

from mellow_herald.core.attempt import State
from mellow_herald.core.plan import Opens
from mellow_herald.core.rollout import RingState, RolloutKind, RolloutState
from mellow_herald.wire.model import Model, Shown, Text, Time
from mellow_herald.wire.plan import PlanDocument, PlanPace, PlanRing, Target


class RingOut(Shown):
    """One ring as it stands, with its attempts counted by state. ``planned`` is how many devices it was to have when it
    was planned, ``targeted`` how many have an attempt, ``ever_bad`` how many of those ever went bad; ``opens`` and
    ``not_before`` are those of its plan; ``asks_why`` says why it awaits go."""

    position: int
    name: str
    state: RingState
    planned: int
    targeted: int
    soak: str
    opens: Opens
    not_before: Time | None
    go_at: Time | None
    asks_why: str | None
    opened_at: Time | None
    soak_until: Time | None
    done_at: Time | None
    states: dict[State, int]
    ever_bad: int


class RolloutOut(Shown):
    """A rollout as it stands. ``kind`` is ``forward``, ``rollback`` (of the rollout ``rolls_back``) or ``swap``;
    ``rolled_back_by`` are the rollbacks of this one; ``round`` counts from 1; ``choices`` says what can be done next
    where it stands still; ``revision`` counts edits of the plan. ``exposed`` counts devices ever cleared, ``at_risk``
    those not yet decided, ``downloading`` those told to fetch; ``never_given`` are targeted devices that neither have
    an attempt nor were passed over, so that targeted = passed over + never given + attempts by state. ``waiting``
    counts what live attempts wait for; ``reasons`` those that are bad now, ``harm`` all that ever were, by why they
    first went bad. ``moved_bytes`` of ``all_bytes`` were brought to devices so far, by what they said."""

    id: int
    kind: RolloutKind
    rolls_back: int | None
    rolled_back_by: list[int]
    round: int
    choices: list[str]
    name: str
    release: str
    state: RolloutState
    reason: str | None
    revision: int
    overtakes: bool
    created_by: str
    created_at: Time
    started_at: Time | None
    ended_at: Time | None
    targeted: int
    passed_over: dict[str, int]
    never_given: int
    states: dict[State, int]
    waiting: dict[str, int]
    reasons: dict[str, int]
    harm: dict[str, int]
    exposed: int
    at_risk: int
    downloading: int
    live: int
    moved_bytes: int
    all_bytes: int
    halt_number: int | None
    rings: list[RingOut]
    plan: PlanDocument


class PartOut(Shown):
    """How one component of a device stands inside an attempt. ``changes`` tells whether the attempt changes it at
    all."""

    name: str
    state: State
    changes: bool
    from_version: str | None
    to_version: str | None
    reason: str | None
    detail: str


class AttemptOut(Shown):
    """One device's passage through a rollout. ``waiting`` says in words what is waited for, ``waiting_until`` when that
    is expected to be over; ``parts`` shows every component of a release that has several. ``harmed_at`` and
    ``undelivered_at`` are when it first went bad after and before it was exposed. ``settings`` tells whether they are
    ``kept`` or ``changed`` since before the switch, once that is known; ``way`` is ``back`` where the device is brought
    back to what it came from."""

    id: int
    rollout_id: int
    device_id: int
    serial: str
    hw_rev: int
    ring: int
    state: State
    reason: str | None
    try_number: int
    tries: int
    step: str | None
    percent: int | None
    rate: int | None
    waiting_for: str | None
    waiting_until: Time | None
    waiting: str | None = None
    live: bool
    closed: bool
    clearance: int | None
    from_version: str | None
    way: str | None = None
    settings: str | None = None
    harmed_at: Time | None
    harmed_why: str | None
    undelivered_at: Time | None
    undelivered_why: str | None
    parts: list[PartOut] = Field(default_factory=list)
    exposed_at: Time | None
    confirmed_at: Time | None
    changed_at: Time


class ReasonIn(Model):
    """Why somebody acts; it goes to the journal."""

    reason: Annotated[Text, Field(min_length=3)]


class ResumeIn(ReasonIn):
    """Why a rollout goes on; ``leave_out`` is a selector of devices that it leaves alone from now on."""

    leave_out: Target | None = None


class PlanEdit(Model):
    """What may still be changed in a plan that runs: its pace, and rings that are not open yet. ``rings`` is the whole
    list, those that are open as they stand; ``reason`` goes to the journal."""

    pace: PlanPace | None = None
    rings: Annotated[list[PlanRing], Field(min_length=1, max_length=50)] | None = None
    reason: Annotated[Text, Field(min_length=3)]


class GoIn(Model):
    """Why a ring may open; ``ring`` is its position, the one that asks by default."""

    ring: Annotated[int, Field(ge=0, le=50)] | None = None
    reason: Annotated[Text, Field(min_length=3)]


class CoverageOut(Shown):
    """How a ring covers one stratum: of the ``eligible`` devices with these values it takes ``taken``."""

    values: dict[str, str]
    eligible: int
    taken: int


class DrawnDevice(Shown):
    """A device that a ring would have."""

    serial: str
    hw_rev: int
    version: str | None
    labels: dict[str, str]


class RingPreview(Shown):
    """What a ring would be like; see ``core.forecast.RingForecast`` for its estimates. ``presence`` counts its devices
    by presence, of a sample of ``sampled`` where there are many."""

    position: int
    name: str
    devices: int
    first: list[DrawnDevice]
    coverage: list[CoverageOut]
    presence: dict[str, int]
    sampled: int
    bytes: int
    opens: Time | None
    first_sign: Time | None
    through: Time | None
    done: Time | None
    by_hand: bool
    soak: str
    at_risk: int
    unproven: int
    exposed_so_far: int
    rules_out: float


class PassedOverPreview(Shown):
    """Devices that would be passed over for a reason: how many, and the first of them."""

    reason: str
    words: str
    devices: int
    first: list[str]


class FaultPreview(Shown):
    """What a fault that strikes every device alike, ``times`` the firmware limit, would do by a study of many made-up
    runs: the mean number of devices of each ring that would be ``exposed`` and ``hurt`` before the halt, and the share
    of runs in which it ``halted`` at all."""

    times: float
    rate: float
    exposed: list[float]
    hurt: list[float]
    halted: float


class PreviewOut(Shown):
    """What a plan would do, as things are now. ``unplaced`` are eligible devices that no ring takes; ``rate`` is what
    links were measured to carry (bytes a second, None: assumed); ``counts`` are the devices of each ring, to be given
    back when the rollout is started; ``overtaken`` counts devices by the rollout they would be taken from;
    ``faults`` is what faults of 1 to 25 times the limit would do."""

    now: Time
    name: str
    release: str
    targeted: int
    eligible: int
    unplaced: int
    passed_over: list[PassedOverPreview]
    rings: list[RingPreview]
    counts: list[int]
    bytes: int
    image_bytes: int
    rate: float | None
    overtaken: dict[str, int]
    faults: list[FaultPreview]
    warnings: list[str]
