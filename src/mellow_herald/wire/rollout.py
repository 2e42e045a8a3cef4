"""Plans and rollouts."""

from typing import Annotated

from pydantic import Field, StringConstraints

from mellow_herald.core.attempt import State
from mellow_herald.core.duration import parse_duration
from mellow_herald.core.needs import BATTERY_AT_LEAST, Needs
from mellow_herald.core.placement import Allow
from mellow_herald.core.plan import Plan, Ring, parse_release_name
from mellow_herald.core.rollout import RingState, RolloutState
from mellow_herald.wire.model import Duration, Model, Name, Shown, Text, Time, Title

Target = Annotated[str, StringConstraints(max_length=20_000, pattern=r"^[^\x00]*$")]


class PlanRing(Model):
    """One ring of a plan. ``enough``: the share of asked devices that must be good before the ring is through."""

    name: Title
    soak: Duration = "10m"
    enough: Annotated[float, Field(ge=0, le=1)] = 0.9


class PlanNumbers(Model):
    """The numbers of a plan."""

    retries: Annotated[int, Field(ge=0, le=20)] = 2
    retry_pause: Duration = "5m"
    answer_within: Duration = "30m"
    trial_for: Duration = "30s"


class PlanDevice(Model):
    """What a device must be like: ``battery_at_least`` in % (less while it charges), ``charging``, ``links``."""

    battery_at_least: Annotated[int, Field(ge=0, le=100)] = BATTERY_AT_LEAST
    charging: bool = False
    links: Annotated[list[Name], Field(max_length=20)] = Field(default_factory=list)


class PlanDocument(Model):
    """A plan as it stands in a TOML file. ``allow`` names what is meant although it is unusual; ``urgent`` does not
    wait for owners who postponed; ``log`` asks the devices for their log lines."""

    name: Title
    release: Annotated[Text, Field(examples=["comb-s1/hive-scale/2.5.0"])]
    target: Annotated[Target, Field(examples=["board = comb-s1 and line = hive-scale"])]
    allow: Annotated[list[Allow], Field(max_length=3)] = Field(default_factory=list)
    urgent: bool = False
    log: bool = False
    device: PlanDevice = Field(default_factory=PlanDevice)
    numbers: PlanNumbers = Field(default_factory=PlanNumbers)
    rings: Annotated[list[PlanRing], Field(min_length=1, max_length=50)]

    @property
    def needs(self) -> Needs:
        """What the core asks of a device's condition."""
        asked = self.device
        return Needs(asked.battery_at_least, asked.charging, tuple(asked.links), self.urgent)

    def to_plan(self) -> Plan:
        """The plan the core works with; raises ``Refused`` where a value makes no sense."""
        numbers = self.numbers
        plan = Plan(
            name=self.name,
            release=parse_release_name(self.release),
            target=self.target,
            rings=tuple(Ring(ring.name, parse_duration(ring.soak), ring.enough) for ring in self.rings),
            retries=numbers.retries,
            retry_pause=parse_duration(numbers.retry_pause),
            answer_within=parse_duration(numbers.answer_within),
            trial_for=parse_duration(numbers.trial_for),
            needs=self.needs,
            allow=frozenset(self.allow),
            log=self.log,
        )
        plan.check()
        return plan


class RingOut(Shown):
    """One ring as it stands, with its attempts counted by state."""

    position: int
    name: str
    state: RingState
    targeted: int
    soak: str
    opened_at: Time | None
    soak_until: Time | None
    done_at: Time | None
    states: dict[State, int]


class RolloutOut(Shown):
    """A rollout as it stands. ``exposed`` counts devices ever cleared, ``at_risk`` those not yet decided."""

    id: int
    name: str
    release: str
    state: RolloutState
    reason: str | None
    created_by: str
    created_at: Time
    started_at: Time | None
    ended_at: Time | None
    targeted: int
    passed_over: dict[str, int]
    states: dict[State, int]
    reasons: dict[str, int]
    exposed: int
    at_risk: int
    live: int
    halt_number: int | None
    rings: list[RingOut]
    plan: PlanDocument


class AttemptOut(Shown):
    """One device's passage through a rollout. ``waiting`` says in words what is waited for, ``waiting_until`` when that
    is expected to be over."""

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
    exposed_at: Time | None
    confirmed_at: Time | None
    changed_at: Time


class ReasonIn(Model):
    """Why somebody acts; it goes to the journal."""

    reason: Annotated[Text, Field(min_length=3)]
