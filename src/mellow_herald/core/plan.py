"""A plan: what a rollout is to do, as the core works with it."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from zoneinfo import ZoneInfo

from mellow_herald.core.arms import Arm, check_arms
from mellow_herald.core.calendar import Use, Windows, zone_named
from mellow_herald.core.coap.delivery import CoapPlan
from mellow_herald.core.eligibility import Allow
from mellow_herald.core.harm.budget import HarmBudget
from mellow_herald.core.needs import Needs
from mellow_herald.core.radio.air import BANDS, USUAL_RATE, Region, data_rate
from mellow_herald.core.radio.session import LONGEST_EXPONENT, largest_fragment
from mellow_herald.core.refusal import Refused
from mellow_herald.core.relapse import ReadingRule
from mellow_herald.core.release_name import ReleaseName
from mellow_herald.core.say import ApprovalRule, EvidenceRule
from mellow_herald.core.selector import parse_selector

UTC_ZONE = zone_named("UTC")


class Opens(StrEnum):
    """Whether a ring opens when its turn has come, or waits for somebody to say go."""

    BY_ITSELF = "by-itself"
    BY_HAND = "by-hand"


class Switch(StrEnum):
    """When a staged image is switched to: as soon as it may, or only when the device restarts by itself anyway."""

    WHEN_STAGED = "when-staged"
    AT_RESTART = "at-restart"


class SwitchWhen(StrEnum):
    """When devices that have staged may switch: each when it has; only while a window for switching is open; or nobody
    before every member of its ring that counts has staged."""

    WHEN_STAGED = "when-staged"
    IN_WINDOW = "in-window"
    ALL_STAGED = "all-staged"


@dataclass(frozen=True, slots=True)
class SwitchOrder:
    """In which order devices switch. ``keep_reachable``: a gateway only when all devices behind it that any rollout
    brings something to are decided."""

    switch: SwitchWhen = SwitchWhen.WHEN_STAGED
    keep_reachable: bool = True


@dataclass(frozen=True, slots=True)
class Ring:
    """One stage. It takes devices by exactly one of ``where`` (a selector), ``serials``, ``count`` or ``share`` (0–1 of
    all eligible ones); by none of them it takes the rest. ``enough`` is the share (0–1) of the devices that asked which
    must be good before it is through."""

    name: str
    soak: timedelta
    enough: float = 0.9
    where: str | None = None
    serials: tuple[str, ...] = ()
    count: int | None = None
    share: float | None = None
    spread_over: tuple[str, ...] = ()
    opens: Opens = Opens.BY_ITSELF
    not_before: datetime | None = None

    @property
    def takes_rest(self) -> bool:
        """Whether it takes whoever is left."""
        return self.where is None and not self.serials and self.count is None and self.share is None


@dataclass(frozen=True, slots=True)
class Calendar:
    """``start`` and ``ends`` are instants (None: at once, never); ``zone`` is that of the windows, unless
    ``device_zone`` says that a device's own label ``tz`` counts first."""

    start: datetime | None = None
    ends: datetime | None = None
    zone: ZoneInfo = UTC_ZONE
    device_zone: bool = False
    windows: Windows = ()

    def zone_of(self, tz: str | None) -> ZoneInfo:
        """The zone of a device with the label ``tz``; one that makes no sense is not believed."""
        if not self.device_zone or not tz:
            return self.zone
        try:
            return zone_named(tz)
        except Refused:
            return self.zone

    def asks_for(self, use: Use) -> bool:
        """Whether any window is for this use."""
        return any(window.use in (use, Use.BOTH) for window in self.windows)


@dataclass(frozen=True, slots=True)
class Owner:
    """What the people who own the devices are told and asked."""

    may_postpone: int = 3
    postpone_by: timedelta = timedelta(days=1)
    must_consent: bool = False
    message: str = ""
    contact: str = ""


@dataclass(frozen=True, slots=True)
class Pace:
    """How many devices at once may download, and be at risk; None for as many as come."""

    downloading_at_once: int | None = None
    at_risk_at_once: int | None = None

    @property
    def bounded(self) -> bool:
        """Whether there is anything to count."""
        return self.downloading_at_once is not None or self.at_risk_at_once is not None


class BrakeKind(StrEnum):
    """The two brakes."""

    FIRMWARE = "firmware"
    DELIVERY = "delivery"


@dataclass(frozen=True, slots=True)
class Brake:
    """Limits of harm: shares (0–1) of bad devices among the exposed, and of failures before exposure; ``alpha`` is the
    chance of halting a release within its limits; evidence is kept for each value of the facts ``watch_by`` too;
    ``min_good`` is how many good devices a ring needs before the next opens by itself; ``readings`` are watched during
    the soak; ``hard_stop`` halts at so many bad devices, whatever the shares."""

    firmware_limit: float = 0.02
    delivery_limit: float = 0.1
    alpha: float = 0.05
    watch_by: tuple[str, ...] = ("hw_rev",)
    min_good: int = 1
    hard_stop: int | None = None
    readings: tuple[ReadingRule, ...] = ()


LONGEST_SESSION = timedelta(seconds=2**LONGEST_EXPONENT)


class Repair(StrEnum):
    """How devices on narrow radio are served that a session did not bring everything to."""

    SESSION = "session"
    ALONE = "alone"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class RadioPlan:
    """How devices on narrow radio are sent to. What is None is computed: ``at`` is the earliest moment, ``length`` how
    long devices listen: what the session takes with some to spare, ``data_rate`` the region's usual one, ``frequency``
    (Hz) that of its channel, ``fragment`` (bytes) what every member can take, ``redundancy`` (%) what the measured loss
    asks for."""

    region: Region = Region.EU868
    at: datetime | None = None
    length: timedelta | None = None
    data_rate: int | None = None
    frequency: int | None = None
    fragment: int | None = None
    redundancy: int | None = None
    repair: Repair = Repair.SESSION

    def check(self) -> None:
        """Raises ``Refused`` if a value makes no sense in the region."""
        rate = self.rate
        data_rate(self.region, rate)
        most = largest_fragment(self.region, rate)
        if self.fragment is not None and self.fragment > most:
            raise Refused(
                "bad-plan",
                f"radio.fragment: {self.fragment} bytes do not go at data rate {rate} in {self.region}.",
                f"Use at most {most}, or leave it out.",
            )
        if self.length is not None and not timedelta(0) < self.length <= LONGEST_SESSION:
            raise Refused(
                "bad-plan",
                f"radio.length: devices listen for {LONGEST_SESSION} at most, and for some time.",
                "Leave it out, or write for example 2h.",
            )
        low, high = BANDS[self.region]
        if self.frequency is not None and not low <= self.frequency <= high:
            raise Refused(
                "bad-plan",
                f"radio.frequency: {self.frequency} Hz is not a downlink frequency of {self.region}.",
                f"Use {low} to {high} Hz, or leave it out.",
            )

    @property
    def rate(self) -> int:
        """The data rate to send at."""
        return USUAL_RATE[self.region] if self.data_rate is None else self.data_rate


@dataclass(frozen=True, slots=True)
class Plan:
    """What a rollout is to do. ``target`` and ``leave_out`` are selectors; ``retries`` are further tries after the
    first; ``trial_for`` is how long new firmware may run on trial; ``answer_within`` after how long without a call a
    device counts as silent; ``wait_at_most`` after how long of waiting for a condition a device holds its ring no
    longer; with ``retry_bad`` what ran and was found bad is tried again too; ``log`` asks for the devices' log lines
    meanwhile; with ``latecomers`` the rollout goes on after its last ring until nobody is left; ``arms`` are two
    releases that the rings before the last get by lot, until one is chosen for the rest."""

    name: str
    release: ReleaseName
    target: str
    rings: tuple[Ring, ...]
    leave_out: str | None = None
    switch: Switch = Switch.WHEN_STAGED
    latecomers: bool = False
    calendar: Calendar = field(default_factory=Calendar)
    order: SwitchOrder = field(default_factory=SwitchOrder)
    needs: Needs = field(default_factory=Needs)
    owner: Owner = field(default_factory=Owner)
    pace: Pace = field(default_factory=Pace)
    brake: Brake = field(default_factory=Brake)
    harm: HarmBudget | None = None
    approval: ApprovalRule | None = None
    evidence: EvidenceRule = field(default_factory=EvidenceRule)
    radio: RadioPlan = field(default_factory=RadioPlan)
    coap: CoapPlan = field(default_factory=CoapPlan)
    retries: int = 2
    retry_pause: timedelta = timedelta(minutes=5)
    answer_within: timedelta = timedelta(minutes=30)
    wait_at_most: timedelta = timedelta(days=1)
    trial_for: timedelta = timedelta(seconds=30)
    retry_bad: bool = False
    allow: frozenset[Allow] = frozenset()
    log: bool = False
    arms: tuple[Arm, ...] = ()

    def check(self) -> None:
        """Raises ``Refused`` if a value makes no sense."""
        for text in (self.target, self.leave_out):
            # A saved selection stands for its selector, which is not known here.
            if text is not None and not text.startswith("@"):
                parse_selector(text)
        self.radio.check()
        self.coap.check()
        check_arms(self.arms, self.release, len(self.rings))
        if self.harm is not None:
            self.harm.check()
        names = [ring.name for ring in self.rings]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise Refused("bad-plan", f"ring {twice!r} is there twice.", "Give every ring a name of its own.")
        if self.approval is not None:
            self.approval.check(names)
        for position, ring in enumerate(self.rings):
            self._check_ring(ring, last=position == len(self.rings) - 1)
        if self.order.switch is SwitchWhen.IN_WINDOW and not self.calendar.asks_for(Use.SWITCH):
            raise Refused(
                "bad-plan",
                "order.switch is in-window, but the calendar has no window for switching.",
                "Add one to [calendar], or write when-staged.",
            )
        if self.calendar.start and self.calendar.ends and self.calendar.ends <= self.calendar.start:
            raise Refused("bad-plan", "the last day is over before the rollout starts.", "Choose a later last_day.")

    def _check_ring(self, ring: Ring, *, last: bool) -> None:
        said = [ring.where is not None, bool(ring.serials), ring.count is not None, ring.share is not None]
        if sum(said) > 1:
            raise Refused(
                "bad-plan",
                f"ring {ring.name!r} takes devices in {sum(said)} ways.",
                "Give one of where, serials, count, share; none for the rest.",
            )
        if ring.takes_rest and not last:
            raise Refused(
                "bad-plan",
                f"ring {ring.name!r} takes the rest, so nothing is left for the rings after it.",
                "Give it one of where, serials, count, share, or put it last.",
            )
        if ring.where is not None:
            parse_selector(ring.where)
