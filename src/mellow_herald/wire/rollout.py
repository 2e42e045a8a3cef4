"""Rollouts and attempts."""

from typing import Annotated, Any

from pydantic import Field

from mellow_herald.core.attempt import State
from mellow_herald.core.choices import Do
from mellow_herald.core.plan import Opens
from mellow_herald.core.rollout import Outcome, RingState, RolloutKind, RolloutState
from mellow_herald.core.say import Asks
from mellow_herald.wire.model import Duration, Model, Reason, Shown, Time
from mellow_herald.wire.plan import PlanCalendar, PlanDocument, PlanPace, PlanRing, Target
from mellow_herald.wire.radio import RadioForecast


class RingOut(Shown):
    """One ring as it stands, with its attempts counted by state. ``planned`` is how many devices it was to have when it
    was planned, ``targeted`` how many have an attempt, ``ever_bad`` how many of those ever went bad; ``opens`` and
    ``not_before`` are those of its plan; ``asks`` and ``asks_why`` say what it asks of people and why, ``stands_why``
    why it stands still. ``set_aside`` counts devices that hold it no longer, by what they wait for. A ring that is not
    open yet opens at ``earliest`` (a bound that moves as long as devices are under way), when what it ``hangs_on`` has
    come to pass."""

    position: int
    name: str
    state: RingState
    planned: int
    targeted: int
    soak: str
    opens: Opens
    not_before: Time | None
    go_at: Time | None
    asks: Asks | None = None
    asks_why: str | None
    stands_why: str | None
    opened_at: Time | None
    soak_until: Time | None
    done_at: Time | None
    states: dict[State, int]
    ever_bad: int
    set_aside: dict[str, int] = Field(default_factory=dict)
    earliest: Time | None = None
    hangs_on: list[str] = Field(default_factory=list)


class ChoiceOut(Shown):
    """One way on where somebody has to choose: what it does in ``words``, its ``command``, and how many ``devices`` it
    touches, where that is known."""

    do: Do
    words: str
    command: str | None
    devices: int | None


class FailedPartOut(Shown):
    """A component that went bad for a reason of its own, on so many devices of a ring; ``serial``, ``attempt_id`` and
    ``line`` are those of the first."""

    ring: int
    part: str
    devices: int
    serial: str
    attempt_id: int
    line: str


class HarmWaveOut(Shown):
    """A wave of a harm budget: it may hold ``size`` devices (or clusters), ``given`` so far, of whom ``undecided`` are
    neither hurt nor through their soak. It began with ``room`` devices (clusters) that may be hurt still, and the
    highest failure ``rate`` (0–1) that what was known did not speak against: of ``decided`` devices ``hurt`` were."""

    number: int
    began_at: Time
    size: int
    given: int | None = None
    undecided: int | None = None
    room: int
    rate: float
    hurt: int
    decided: int
    words: str


class HarmBudgetOut(Shown):
    """The harm budget of a rollout: ``hurt`` of ``at_most`` devices in all rounds, ``at_risk`` now; ``free`` are how
    many more may be given leave for now; ``words`` say how it stands and why."""

    at_most: int
    sure: bool
    certainty: float
    hurt: int
    at_risk: int
    free: int
    used_up: bool
    wave: HarmWaveOut | None
    words: str


class OutsideOut(Shown):
    """What was heard outside about a rollout, counted: devices ``named`` that have the release, and others; ``unseen``
    pieces that name none and wait for somebody; ``withdrawn`` ones."""

    named: int
    named_others: int
    unseen: int
    withdrawn: int


class RolloutOut(Shown):
    """A rollout as it stands at ``now`` (service time). ``kind`` is ``forward``, ``rollback`` (of the rollout
    ``rolls_back``) or ``swap``; ``rolled_back_by`` are the rollbacks of this one; ``round`` counts from 1;
    ``stands_still`` says why nothing in it moves by itself any more, ``choices`` what can be done next where somebody
    has to; ``revision`` counts edits of the plan. ``exposed`` counts devices ever cleared, ``at_risk`` those not yet
    decided, ``downloading`` those told to fetch; ``never_given`` are targeted devices that neither have an attempt nor
    were passed over, so that targeted = passed over + never given + attempts by state. ``outcome`` is what it came to,
    None while it goes on; ``halted_why`` says why it was last halted, whatever came of it. ``ever_bad`` counts the
    attempts that ever went bad, ``unasked`` those that switched without clearance. ``waiting`` counts what live
    attempts wait for; ``reasons`` those that are bad now, ``harm`` all that ever were, by why they first went bad.
    ``moved_bytes`` of ``all_bytes`` were brought to devices so far, by what they said. ``failed_parts`` are the
    components that went bad for a reason of their own, ring by ring; ``budget`` is how its harm budget stands,
    ``outside`` what was heard outside, None if nothing was. ``second_release`` is compared with ``release`` by lot,
    until the arm of one is ``chosen``."""

    now: Time
    id: int
    kind: RolloutKind
    rolls_back: int | None
    rolled_back_by: list[int]
    round: int
    choices: list[ChoiceOut]
    stands_still: str | None
    name: str
    release: str
    state: RolloutState
    outcome: Outcome | None
    reason: str | None
    halted_why: str | None
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
    ever_bad: int
    failed_parts: list[FailedPartOut] = Field(default_factory=list)
    unasked: int
    exposed: int
    at_risk: int
    downloading: int
    live: int
    moved_bytes: int
    all_bytes: int
    budget: HarmBudgetOut | None = None
    outside: OutsideOut | None = None
    second_release: str | None = None
    chosen: str | None = None
    halt_number: int | None
    rings: list[RingOut]
    plan: PlanDocument


class PartOut(Shown):
    """How one component of a device stands inside an attempt. ``changes`` tells whether the attempt changes it at all;
    ``digest`` is what it runs by its newest word, ``from_digest`` what it ran before."""

    name: str
    state: State
    changes: bool
    from_version: str | None
    to_version: str | None
    from_digest: str | None = None
    digest: str | None = None
    percent: int | None = None
    reason: str | None
    detail: str


class SettlementOut(Shown):
    """An attempt that stood wrong, and was settled after the fact by what its device had last said: how it stood
    before, how it stands since, and why."""

    at: Time
    serial: str
    rollout_id: int
    attempt_id: int
    state_before: State
    reason_before: str | None
    state: State
    reason: str | None
    why: str


class AttemptOut(Shown):
    """One device's passage through a rollout. ``waiting`` says in words what is waited for, ``waiting_until`` when that
    is expected to be over; ``parts`` shows every component of a release that has several. ``harmed_at`` and
    ``undelivered_at`` are when it first went bad after and before it was exposed, as its round counts;
    ``first_bad_at``, ``first_bad_why`` and ``first_bad_try`` when, why and in which try it ever did. ``unasked_at`` is
    when it switched without clearance; ``left_out`` tells that the rollout goes on without it. ``settings`` tells
    whether they are ``kept`` or ``changed`` since before the switch, once that is known; ``way`` is ``back`` where the
    device is brought back to what it came from. ``says_version`` is what it says of itself, where that is not the
    version of the bytes that it runs (``version-differs``); ``arm`` names which of two compared releases it brings."""

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
    says_version: str | None = None
    arm: str | None = None
    harmed_at: Time | None
    harmed_why: str | None
    undelivered_at: Time | None
    undelivered_why: str | None
    first_bad_at: Time | None
    first_bad_why: str | None
    first_bad_try: int | None
    unasked_at: Time | None
    waiting_since: Time | None
    left_out: bool
    parts: list[PartOut] = Field(default_factory=list)
    exposed_at: Time | None
    confirmed_at: Time | None
    changed_at: Time


class ReasonIn(Model):
    """Why somebody acts; it goes to the journal."""

    reason: Reason


class ResumeIn(ReasonIn):
    """Why a rollout goes on; ``leave_out`` is a selector of devices that it leaves alone from now on."""

    leave_out: Target | None = None


class PlanEdit(Model):
    """What may still be changed in a plan that runs: its pace, its calendar (all of it, but for the start once that is
    over), ``wait_at_most``, the ``at_most`` of its harm budget (``harm_at_most``), and rings. ``rings`` is the whole
    list, those that are open as they stand, but for their ``enough``; ``reason`` goes to the journal."""

    pace: PlanPace | None = None
    calendar: PlanCalendar | None = None
    wait_at_most: Duration | None = None
    harm_at_most: Annotated[int, Field(strict=True, ge=1, le=1_000_000)] | None = None
    rings: Annotated[list[PlanRing], Field(min_length=1, max_length=50)] | None = None
    reason: Reason


class PlanChange(Shown):
    """One key of a plan that would change, e.g. ``pace.at_risk_at_once`` or ``rings.pilot``."""

    key: str
    before: Any
    after: Any


class PlanEditPreview(Shown):
    """What a change of the plan would do now: which keys change, and in words whom that touches. ``revision`` is that
    of the plan it was held against: send it as ``If-Match`` with the change."""

    revision: int
    changes: list[PlanChange]
    effects: list[str]


class RetryIn(ReasonIn):
    """Why all bad devices of a ring are tried again; ``ring`` is its position, all rings by default."""

    ring: Annotated[int, Field(strict=True, ge=0, le=50)] | None = None


class LeaveOutIn(ReasonIn):
    """Why a rollout goes on without some devices: those that ``where`` picks, or else those that keep the ring that
    stands still from going on."""

    where: Target | None = None


class GoIn(Model):
    """Why a ring may open; ``ring`` is its position, the one that asks by default."""

    ring: Annotated[int, Field(strict=True, ge=0, le=50)] | None = None
    reason: Reason


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


class ForeseenOut(Shown):
    """How many devices of a ring can meet a condition within the next 24 hours, from their hours of the last week:
    ``low``, ``expected`` and ``high`` of those with at least three days of history, ``unknown`` the others. The
    condition ``all`` is that of every need and the plan's windows together."""

    condition: str
    low: int
    expected: float
    high: int
    unknown: int


class RingPreview(Shown):
    """What a ring would be like; see ``core.forecast.RingForecast`` for its estimates. ``presence`` counts its devices
    by presence, of a sample of ``sampled`` where there are many; ``foreseen`` is of the same sample."""

    position: int
    name: str
    devices: int
    first: list[DrawnDevice]
    coverage: list[CoverageOut]
    presence: dict[str, int]
    sampled: int
    foreseen: list[ForeseenOut] = Field(default_factory=list)
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


class BudgetPreview(Shown):
    """What a harm budget means for a good release: in how many ``waves`` each ring is given leave, and when all would
    be ``done``, against ``done_without`` it; no wave holds more than ``wave_at_most`` devices. ``background`` of
    ``heard`` devices restarted or fell silent in the time of the longest soak, which uses the budget too."""

    at_most: int
    sure: bool
    certainty: float
    wave_at_most: int | None
    waves: list[int]
    done: Time | None
    done_without: Time | None
    heard: int
    background: int
    words: list[str]


class ArmPreview(Shown):
    """One of two releases that the plan compares: how many ``devices`` would get it by lot, and its size in bytes."""

    name: str
    release: str
    share: float
    devices: int
    image_bytes: int


class PreviewOut(Shown):
    """What a plan would do, as things are now. ``unplaced`` are eligible devices that no ring takes; ``rate`` is what
    links were measured to carry (bytes a second, None: assumed); ``counts`` are the devices of each ring, to be given
    back when the rollout is started; ``overtaken`` counts devices by the rollout they would be taken from;
    ``faults`` is what faults of 1 to 25 times the limit would do; ``radio`` how devices on narrow radio would be sent
    to, ring by ring; ``budget`` what the plan's harm budget means; ``arms`` are the two releases that it compares."""

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
    budget: BudgetPreview | None = None
    arms: list[ArmPreview] = Field(default_factory=list)
    warnings: list[str]
    radio: list[RadioForecast] = Field(default_factory=list)
