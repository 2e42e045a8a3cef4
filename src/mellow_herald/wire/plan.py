"""A plan as it stands in a TOML file or a form; docs/plan.md explains every key."""

import hashlib
import json
from datetime import time
from decimal import Decimal
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, StrictBool, StringConstraints, model_validator

from mellow_herald.core.arms import Arm
from mellow_herald.core.calendar import DAYS, Use, Window, end_of_day, local_moment, zone_named
from mellow_herald.core.coap.delivery import CoapPlan, Method, Transport
from mellow_herald.core.duration import parse_duration
from mellow_herald.core.eligibility import Allow
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.needs import BATTERY_AT_LEAST, Needs
from mellow_herald.core.plan import (
    Brake,
    Calendar,
    Opens,
    Owner,
    Pace,
    Plan,
    RadioPlan,
    Repair,
    Ring,
    Switch,
    SwitchOrder,
    SwitchWhen,
)
from mellow_herald.core.radio.air import Region
from mellow_herald.core.relapse import Measure, ReadingRule, Worse
from mellow_herald.core.release_name import parse_release_name
from mellow_herald.core.say import ApprovalRule, EvidenceRule
from mellow_herald.wire.model import AnyTime, CalendarDay, Duration, Model, Name, Number, Text, Title, checked

Target = Annotated[str, StringConstraints(max_length=20_000, pattern=r"^[^\x00]*$")]
Zone = Annotated[
    str,
    StringConstraints(max_length=64),
    AfterValidator(lambda v: checked(v, zone_named)),
    Field(examples=["Europe/Dublin"]),
]
Clock = Annotated[str, StringConstraints(pattern=r"^([01]\d|2[0-3]):[0-5]\d$"), Field(examples=["02:30"])]
# What was heard outside: a support call, an alarm of other monitoring, …
Kind = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9-]{0,39}$"), Field(examples=["support-call"])]
NO_LIST = "in_list = 0"
Day = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
Share = Annotated[float, Field(strict=True, ge=0, le=1)]
AtOnce = Annotated[int, Field(strict=True, ge=1, le=10_000_000)]


class PlanWindow(Model):
    """A weekly window: from ``begin`` to ``end`` (of the next day, if that is not later) on ``days``."""

    days: Annotated[list[Day], Field(min_length=1, max_length=7)] = Field(default_factory=lambda: list(DAYS))  # type: ignore[arg-type]
    begin: Clock
    end: Clock
    use: Use = Use.BOTH

    def to_window(self) -> Window:
        """The window the core works with."""
        days = frozenset(DAYS.index(day) for day in self.days)
        return Window(days, time.fromisoformat(self.begin), time.fromisoformat(self.end), self.use)


class PlanCalendar(Model):
    """When: ``start`` (without an offset it is meant in ``zone``; left out: at once), weekly ``windows`` in
    ``zone`` or in the zone of each device's label ``tz``, and the ``last_day``, after which nobody is served."""

    start: AnyTime | None = None
    zone: Zone = "UTC"
    zone_of: Literal["plan", "device"] = "plan"
    windows: Annotated[list[PlanWindow], Field(max_length=50)] = Field(default_factory=list)
    last_day: CalendarDay | None = None


class PlanDevice(Model):
    """What a device must be like: ``battery_at_least`` in % (less while it charges), ``charging``, over which
    ``links`` it may download (none named: any), and that it is not busy when it switches."""

    battery_at_least: Annotated[int, Field(strict=True, ge=0, le=100)] = BATTERY_AT_LEAST
    charging: StrictBool = False
    links: Annotated[list[Name], Field(max_length=20)] = Field(default_factory=list)
    not_busy: StrictBool = True


class PlanOwner(Model):
    """What those who own the devices may do: postpone so many times by so long, be asked first; what they are told and
    whom they can turn to."""

    may_postpone: Annotated[int, Field(strict=True, ge=0, le=100)] = 3
    postpone_by: Duration = "1d"
    must_consent: StrictBool = False
    message: Annotated[Text, Field(max_length=500)] = ""
    contact: Annotated[Text, Field(max_length=200)] = ""


class PlanPace(Model):
    """How many devices at once: downloading, and at risk (cleared and not yet decided). Left out: as many as come."""

    downloading_at_once: AtOnce | None = None
    at_risk_at_once: AtOnce | None = None


class PlanOrder(Model):
    """In which order devices switch: ``when-staged`` each as soon as it may, ``in-window`` only while a window of the
    calendar is open, ``all-staged`` nobody before every member of its ring that counts has staged.
    ``keep_reachable``: a gateway only when all devices behind it that any rollout brings something to are decided."""

    switch: SwitchWhen = SwitchWhen.WHEN_STAGED
    keep_reachable: StrictBool = True


class PlanNumbers(Model):
    """How often a device tries again (what ran and was found bad only with ``retry_bad``) and how long it is waited
    for: ``answer_within`` for its word, ``wait_at_most`` for a condition that it does not meet."""

    retries: Annotated[int, Field(strict=True, ge=0, le=20)] = 2
    retry_bad: StrictBool = False
    retry_pause: Duration = "5m"
    answer_within: Duration = "30m"
    wait_at_most: Duration = "1d"
    trial_for: Duration = "30s"


class PlanReading(Model):
    """A reading to watch during the soak: in which direction it gets worse, and by how much, against the same device
    before the update: by more than the share ``by`` and by at least ``at_least`` in its own unit. With ``measure`` =
    "per-day" that is how it moves in a day, for a signal that is listened to."""

    name: Name
    worse: Worse
    by: Annotated[float, Field(strict=True, ge=0, le=100)] = 0.2
    at_least: Annotated[Number, Field(ge=0)] = 0.0
    measure: Measure = Measure.VALUE


class PlanBrake(Model):
    """When to stop: limits of bad devices among the exposed and of failures before exposure, ``alpha`` for the chance
    of halting a release within them, ``watch_by`` for the facts that are watched value by value, ``readings`` for what
    must not get worse, ``min_good`` for how many good devices let the next ring open; ``hard_stop`` halts at so many
    bad devices."""

    firmware_limit: Annotated[float, Field(strict=True, gt=0, lt=1)] = 0.02
    delivery_limit: Annotated[float, Field(strict=True, gt=0, lt=1)] = 0.1
    alpha: Annotated[float, Field(strict=True, gt=0, lt=0.5)] = 0.05
    watch_by: Annotated[list[Name], Field(max_length=10)] = Field(default_factory=lambda: ["hw_rev"])
    min_good: Annotated[int, Field(strict=True, ge=0, le=1_000_000)] = 1
    readings: Annotated[list[PlanReading], Field(max_length=20)] = Field(default_factory=list)
    hard_stop: Annotated[int, Field(strict=True, ge=1, le=1_000_000)] | None = None


class PlanHarm(Model):
    """How many devices the release may hurt: ``at_most``, for ``sure`` or with a ``certainty``. Where devices fail
    together, ``cluster_by`` names the fact that they have in common; then at most ``of_a_cluster`` devices of each are
    given leave at a time. No wave holds more than ``wave_at_most`` devices (ten times the budget)."""

    at_most: Annotated[int, Field(strict=True, ge=1, le=1_000_000)]
    certainty: Annotated[float, Field(strict=True, ge=0.5, le=0.9999)] = 0.95
    sure: StrictBool = False
    cluster_by: Name | None = None
    of_a_cluster: Annotated[int, Field(strict=True, ge=1, le=1_000_000)] = 1
    wave_at_most: Annotated[int, Field(strict=True, ge=1, le=10_000_000)] | None = None

    def to_budget(self) -> HarmBudget:
        """The budget the core works with."""
        return HarmBudget(
            self.at_most, self.certainty, self.sure, self.cluster_by, self.of_a_cluster, self.wave_at_most
        )


class PlanApproval(Model):
    """Which rings another person must approve of before they open: ``rings`` by name (``all`` for every one), and those
    with more than the share ``share_above`` of all planned devices. ``by`` is the role of who may; with
    ``not_the_starter`` nobody who started the rollout, wrote its plan or published its release."""

    rings: Annotated[list[Title], Field(max_length=50)] = Field(default_factory=list)
    share_above: Annotated[float, Field(strict=True, ge=0, lt=1)] | None = None
    by: Literal["operator", "publisher", "admin"] = "operator"
    not_the_starter: StrictBool = True


class PlanEvidence(Model):
    """Kinds of outside evidence on which the rollout is held at once."""

    hold_on: Annotated[list[Kind], Field(max_length=20)] = Field(default_factory=list)


class PlanRadio(Model):
    """How devices on narrow radio are sent to, all of a ring at once. What is left out is computed: ``at`` the earliest
    moment by which all can be prepared (sooner is refused), ``length`` how long devices listen (shorter than it takes
    is refused), ``data_rate`` the region's usual one, ``frequency`` (Hz) that of its channel for groups, ``fragment``
    (bytes) what every device can take, ``redundancy`` (% of the fragments) what the measured loss asks for. ``repair``
    is for those that a session did not bring everything to: another ``session`` for all of them, each ``alone``, or
    ``none``."""

    region: Region = Region.EU868
    at: AnyTime | None = None
    length: Duration | None = None
    data_rate: Annotated[int, Field(strict=True, ge=0, le=15)] | None = None
    frequency: Annotated[int, Field(strict=True, ge=100_000_000, le=1_000_000_000)] | None = None
    fragment: Annotated[int, Field(strict=True, ge=8, le=239)] | None = None
    redundancy: Annotated[int, Field(strict=True, ge=0, le=100)] | None = None
    repair: Repair = Repair.SESSION


class PlanCoap(Model):
    """How the release comes to devices that speak CoAP. What is left out is as each of them says that it can:
    ``method`` is ``pull`` (it fetches) or ``push`` (it is written to), ``transport`` what it fetches by, ``block`` the
    size of blocks in bytes, 16 to 1024 in powers of two."""

    method: Method | None = None
    transport: Transport | None = None
    block: Annotated[int, Field(strict=True, ge=16, le=1024)] | None = None


class PlanRing(Model):
    """One ring of a plan. It takes devices by one of ``where``, ``serials``, ``count`` or ``share``; by none of them it
    takes the rest and must be the last. ``spread_over`` names facts or labels whose values all are to be met in it.
    ``enough``: the share of asked devices that must be good before the ring is through."""

    name: Title
    where: Target | None = None
    serials: Annotated[list[Name], Field(max_length=10_000)] = Field(default_factory=list)
    count: Annotated[int, Field(strict=True, ge=1, le=10_000_000)] | None = None
    share: Annotated[float, Field(strict=True, gt=0, le=1)] | None = None
    spread_over: Annotated[list[Name], Field(max_length=5)] = Field(default_factory=list)
    soak: Duration = "10m"
    enough: Share = 0.9
    opens: Opens = Opens.BY_ITSELF
    not_before: AnyTime | None = None


class PlanArm(Model):
    """One of two releases that are compared, under a name by which it is spoken of; ``share`` (0–1) of the devices of
    each ring but the last get it by lot, half of them by default."""

    name: Title
    release: Annotated[Text, Field(examples=["comb-s1/hive-scale/2.5.0"])]
    share: Annotated[float, Field(gt=0, lt=1, allow_inf_nan=False)] | None = None


class PlanDocument(Model):
    """A plan. ``target`` is a selector or ``@NAME`` of a selection; a plan file may name a list of serials instead
    (``target_file``, one a line), which is kept by the service before the plan is sent; ``leave_out`` a selector of
    exceptions; ``allow`` names what is meant although it is unusual; ``urgent`` does not wait for owners who postponed;
    ``switch`` says whether a staged image is switched to as soon as it may or when the device restarts by itself; with
    ``latecomers`` the rollout goes on after its last ring until nobody is left; ``log`` asks the devices for their log
    lines; ``arms`` are two releases to compare, the first of them ``release``."""

    name: Title
    release: Annotated[Text, Field(examples=["comb-s1/hive-scale/2.5.0"])]
    target: Annotated[Target, Field(examples=["board = comb-s1 and line = hive-scale"])] = ""
    target_file: Annotated[Text, Field(max_length=1000)] | None = None
    leave_out: Target | None = None
    allow: Annotated[list[Allow], Field(max_length=4)] = Field(default_factory=list)
    urgent: StrictBool = False
    switch: Switch = Switch.WHEN_STAGED
    latecomers: StrictBool = False
    log: StrictBool = False
    calendar: PlanCalendar = Field(default_factory=PlanCalendar)
    order: PlanOrder = Field(default_factory=PlanOrder)
    device: PlanDevice = Field(default_factory=PlanDevice)
    owner: PlanOwner = Field(default_factory=PlanOwner)
    pace: PlanPace = Field(default_factory=PlanPace)
    numbers: PlanNumbers = Field(default_factory=PlanNumbers)
    brake: PlanBrake = Field(default_factory=PlanBrake)
    harm: PlanHarm | None = None
    approval: PlanApproval | None = None
    evidence: PlanEvidence = Field(default_factory=PlanEvidence)
    radio: PlanRadio = Field(default_factory=PlanRadio)
    coap: PlanCoap = Field(default_factory=PlanCoap)
    arms: Annotated[list[PlanArm], Field(max_length=2)] = Field(default_factory=list)
    rings: Annotated[list[PlanRing], Field(min_length=1, max_length=50)]

    @model_validator(mode="before")
    @classmethod
    def _without_schema(cls, data: object) -> object:
        # Editors look for the address of the schema in this key.
        return {key: value for key, value in data.items() if key != "$schema"} if isinstance(data, dict) else data

    @model_validator(mode="after")
    def _one_target(self) -> "PlanDocument":
        if bool(self.target) == (self.target_file is not None):
            raise ValueError("say whom it is for: either target, or target_file")
        return self

    @property
    def digest(self) -> str:
        """By which it is known again, wherever it was written."""
        text = json.dumps(self.model_dump(mode="json"), sort_keys=True, separators=(",", ":"))
        return hashlib.sha256(text.encode()).hexdigest()

    @property
    def needs(self) -> Needs:
        """What the core asks of a device's condition."""
        asked = self.device
        return Needs(
            asked.battery_at_least,
            asked.charging,
            tuple(asked.links),
            asked.not_busy,
            self.urgent,
            self.owner.must_consent,
        )

    def to_plan(self) -> Plan:
        """The plan the core works with; raises ``Refused`` where a value makes no sense."""
        numbers, owner, brake = self.numbers, self.owner, self.brake
        zone = zone_named(self.calendar.zone)
        calendar = Calendar(
            start=None if self.calendar.start is None else local_moment(self.calendar.start, zone),
            ends=None if self.calendar.last_day is None else end_of_day(self.calendar.last_day, zone),
            zone=zone,
            device_zone=self.calendar.zone_of == "device",
            windows=tuple(window.to_window() for window in self.calendar.windows),
        )
        radio = self.radio
        rings = tuple(
            Ring(
                ring.name,
                parse_duration(ring.soak),
                ring.enough,
                ring.where,
                tuple(ring.serials),
                ring.count,
                ring.share,
                tuple(ring.spread_over),
                ring.opens,
                None if ring.not_before is None else local_moment(ring.not_before, zone),
            )
            for ring in self.rings
        )
        plan = Plan(
            name=self.name,
            release=parse_release_name(self.release),
            # Whom a file names is known only once its list is kept.
            target=self.target or NO_LIST,
            leave_out=self.leave_out,
            rings=rings,
            switch=self.switch,
            latecomers=self.latecomers,
            calendar=calendar,
            order=SwitchOrder(self.order.switch, self.order.keep_reachable),
            needs=self.needs,
            owner=Owner(
                owner.may_postpone, parse_duration(owner.postpone_by), owner.must_consent, owner.message, owner.contact
            ),
            pace=Pace(self.pace.downloading_at_once, self.pace.at_risk_at_once),
            brake=Brake(
                brake.firmware_limit,
                brake.delivery_limit,
                brake.alpha,
                tuple(brake.watch_by),
                brake.min_good,
                brake.hard_stop,
                tuple(ReadingRule(one.name, one.worse, one.by, one.at_least, one.measure) for one in brake.readings),
            ),
            harm=None if self.harm is None else self.harm.to_budget(),
            approval=None
            if self.approval is None
            else ApprovalRule(
                tuple(self.approval.rings), self.approval.share_above, self.approval.by, self.approval.not_the_starter
            ),
            evidence=EvidenceRule(tuple(self.evidence.hold_on)),
            radio=RadioPlan(
                radio.region,
                None if radio.at is None else local_moment(radio.at, zone),
                None if radio.length is None else parse_duration(radio.length),
                radio.data_rate,
                radio.frequency,
                radio.fragment,
                radio.redundancy,
                radio.repair,
            ),
            coap=CoapPlan(self.coap.method, self.coap.transport, self.coap.block),
            retries=numbers.retries,
            retry_pause=parse_duration(numbers.retry_pause),
            answer_within=parse_duration(numbers.answer_within),
            wait_at_most=parse_duration(numbers.wait_at_most),
            trial_for=parse_duration(numbers.trial_for),
            retry_bad=numbers.retry_bad,
            allow=frozenset(self.allow),
            log=self.log,
            arms=self._arms(),
        )
        plan.check()
        return plan

    def _arms(self) -> tuple[Arm, ...]:
        given = [arm.share for arm in self.arms]
        # Decimals, so that 0.7 and what is left of 1 are 1 together.
        left = [None if share is None else float(1 - Decimal(str(share))) for share in reversed(given)]
        shares = [
            next(one for one in (own, rest, 0.5) if one is not None) for own, rest in zip(given, left, strict=True)
        ]
        return tuple(
            Arm(arm.name, parse_release_name(arm.release), share) for arm, share in zip(self.arms, shares, strict=True)
        )
