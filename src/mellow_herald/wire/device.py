"""The device protocol, version 1. Unknown fields are ignored both ways."""

from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, StrictBool, StringConstraints, model_validator

from mellow_herald.core.attempt import REASONS, DownloadStep, State
from mellow_herald.core.limits import LARGEST_REVISION
from mellow_herald.core.order import Order
from mellow_herald.core.radio.air import Region
from mellow_herald.wire.model import ComponentName, Digest, Moment, Name, Number, Text, Version, Whole

MOST_REPORTS = 100
ShortText = Annotated[str, StringConstraints(max_length=200, pattern=r"^[^\x00]*$")]

Port = Annotated[int, Field(strict=True, ge=1, le=223)]
PackageVersion = Annotated[int, Field(strict=True, ge=1, le=255)]
RootKey = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{32}$")]


class DeviceModel(BaseModel):
    """Base of what devices send and get."""

    model_config = ConfigDict(extra="ignore")


class RadioPorts(DeviceModel):
    """The ports (FPort) of a radio device's application packages."""

    clock: Port = 202
    multicast: Port = 200
    fragments: Port = 201


class RadioPackages(DeviceModel):
    """Which versions of the application packages for clock (TS003), groups (TS005) and fragments (TS004) a radio device
    has; None for one that it lacks."""

    clock: PackageVersion | None = 2
    multicast: PackageVersion | None = 2
    fragments: PackageVersion | None = 2


class RadioIn(DeviceModel):
    """What must be known of a device to reach it by narrow radio: its EUI (16 hex digits), region, class, how often it
    speaks, ports and packages, the largest fragment that it takes (bytes), and the root key of its groups, 32 hex
    digits: GenAppKey (LoRaWAN 1.0) or AppKey (1.1). The key is kept encrypted and never shown."""

    eui: Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{16}$")]
    region: Region = Region.EU868
    device_class: Literal["B", "C"] = "C"
    lorawan: Literal["1.0", "1.1"] = "1.0"
    interval_s: Annotated[int, Field(strict=True, ge=10, le=86_400)] = 600
    ports: RadioPorts = Field(default_factory=RadioPorts)
    packages: RadioPackages = Field(default_factory=RadioPackages)
    most_fragment: Annotated[int, Field(strict=True, ge=8, le=239)] | None = None
    root_key: RootKey | None = None


class EnrolmentIn(DeviceModel):
    """A device's first call. The same nonce gives the same token until the token's first use. With ``coap`` the answer
    has the secret by which the device speaks CoAP afterwards."""

    serial: Name
    board: Name
    line: Name
    hw_rev: Annotated[int, Field(strict=True, ge=0, le=LARGEST_REVISION)]
    code: ShortText
    nonce: Annotated[str, StringConstraints(min_length=16, max_length=64, pattern=r"^[A-Za-z0-9_-]+$")]
    labels: dict[Name, ShortText] = Field(default_factory=dict, max_length=32)
    gateway: Name | None = None
    radio: RadioIn | None = None
    coap: StrictBool = False


class OscoreOut(DeviceModel):
    """What a device shares with the service to protect CoAP (RFC 8613): the master secret, its own Sender ID and the
    service's (``recipient_id``), in hex. Algorithms are the RFC's own; there is neither salt nor ID context."""

    secret: str
    sender_id: str
    recipient_id: str


class StandingFacts(DeviceModel):
    """What the service holds of a device since it enrolled. ``labels`` are those with the engineer's, which win."""

    serial: Name
    board: Name
    line: Name
    hw_rev: int
    labels: dict[str, str]
    gateway: str | None = None


class EnrolmentOut(DeviceModel):
    """The device's id, its token and whether it is admitted; for one that speaks CoAP its secret. ``stands`` is what
    is held of it; ``not_taken`` names what it said and that does not stand: facts of an enrolment that is repeated,
    or labels that the engineer put on the code otherwise (``labels.site``)."""

    device_id: int
    token: str
    oscore: OscoreOut | None = None
    admission: Literal["asking", "admitted", "refused", "retired"]
    stands: StandingFacts | None = None
    not_taken: list[str] = Field(default_factory=list)


class Content(DeviceModel):
    """What stands in a slot: a component's version, digest, slot and floor number."""

    version: Version | None = None
    digest: Digest
    slot: ShortText = ""
    floor: Whole = 0


class Condition(DeviceModel):
    """What a device says of itself. ``battery`` in %, ``free`` in bytes; ``owner_until`` is when an owner's
    postponement ends."""

    battery: Annotated[int, Field(strict=True, ge=0, le=100)] | None = None
    charging: StrictBool | None = None
    link: Name | None = None
    free: Whole | None = None
    busy: StrictBool | None = None
    owner: Literal["willing", "postponed", "must-consent"] | None = None
    owner_until: Moment | None = None


class AlarmIn(DeviceModel):
    """Something that a device noticed: its ``kind``, what it is ``about`` (a serial, or a port), when by the device's
    time, and in words."""

    kind: Name
    about: ShortText = ""
    at: Moment | None = None
    text: ShortText = ""


class CheckinIn(DeviceModel):
    """What the device runs, read from its flash when it started, and how it is. ``boots`` and ``seq`` order check-ins
    and reports of one device; ``trial`` (from updater 2 on) tells that what runs has not vouched for itself yet;
    ``parts`` are all components that it has, empty ones too; ``alarms`` what it noticed since its last call;
    ``listening`` is the number of what it was asked last to send as readings, 0 for nothing; ``recording`` that of the
    recording that it is about to send, or sends."""

    boots: Whole
    seq: Whole
    ready: StrictBool = False
    running: dict[ComponentName, Content] = Field(default_factory=dict, max_length=32)
    standby: dict[ComponentName, Content] = Field(default_factory=dict, max_length=32)
    trial: StrictBool = False
    updater: Annotated[int, Field(strict=True, ge=0, le=255)] = 1
    condition: Condition = Field(default_factory=Condition)
    uptime_s: Whole = 0
    readings: dict[Name, Number] = Field(default_factory=dict, max_length=64)
    settings_digest: Digest | None = None
    after_restart: StrictBool = False
    parts: list[ComponentName] | None = Field(default=None, max_length=32)
    alarms: list[AlarmIn] = Field(default_factory=list, max_length=20)
    listening: Whole = 0
    recording: Whole = 0


class Clearance(DeviceModel):
    """Leave to switch: its number, and for how many seconds of the device's own clock it holds."""

    number: int
    seconds: int


class OwnerWord(DeviceModel):
    """What the device may let its owner do, and tell them: postpone so many times by so many seconds, be asked
    first."""

    may_postpone: int = 3
    postpone_by_s: int = 86_400
    must_consent: bool = False
    message: str = ""
    contact: str = ""


class RefusedReport(DeviceModel):
    """A report that could not be taken; the others in the call were. ``index`` is its place in the call, from 0;
    ``boots`` and ``seq`` are its own, where they could be read."""

    index: int
    boots: int | None = None
    seq: int | None = None
    kind: str
    detail: str


class AskedSignal(DeviceModel):
    """A signal that a device is asked for: at which period, and for how many seconds of its own clock from now."""

    name: str
    period_s: float
    seconds: int


class ListenOut(DeviceModel):
    """All that a device is asked for. It sends ``number`` back in its check-ins, as ``listening``: then it is not told
    again. Number 0 asks for nothing."""

    number: int
    signals: list[AskedSignal]


class RecordOut(DeviceModel):
    """A stretch of readings that a device is to send as it kept it, at full rate: from ``begins`` to ``ends`` (s since
    1970, by its own clock), of these ``signals`` or, if none is named, of all; nothing if that has more than
    ``at_most`` bytes."""

    number: int
    begins: float
    ends: float
    signals: list[str]
    at_most: int


class OrderOut(DeviceModel):
    """The order that stands. ``attempt`` and ``try`` are to be named in reports; ``manifest`` is a digest. ``urgent``
    asks for it without the owner's postponement; ``log`` asks for log lines until an answer no longer does. Orders to
    switch say what is ``to`` run afterwards, the digest of every component (from updater 2 on). ``listen``: what it is
    asked to send as readings, if that is not what it said; ``record``: the recording that it is asked for, if it did
    not say that it is about it."""

    model_config = ConfigDict(extra="ignore", populate_by_name=True)

    order: Order | None = None
    attempt: int | None = None
    try_number: int = Field(default=1, alias="try")
    manifest: Digest | None = None
    to: dict[ComponentName, Digest] | None = None
    clearance: Clearance | None = None
    trial_s: int = 30
    next_checkin_s: int
    owner: OwnerWord | None = None
    urgent: bool = False
    log: bool = False
    listen: ListenOut | None = None
    record: RecordOut | None = None
    refused: list[RefusedReport] = Field(default_factory=list)


class SelfTest(DeviceModel):
    """The result of one self-test of new firmware on trial."""

    name: ShortText
    passed: StrictBool
    detail: Text = ""


class StateTold(DeviceModel):
    """A state, with its ``percent`` (0–100), the ``reason`` that goes with it where it is a bad one, and a ``log``."""

    state: Literal[
        State.DOWNLOADING,
        State.STAGED,
        State.INSTALLING,
        State.PROVING,
        State.CONFIRMED,
        State.FAILED,
        State.REVERTED,
    ]
    reason: Name | None = None
    percent: Annotated[int, Field(strict=True, ge=0, le=100)] | None = None
    detail: Text = ""
    log: Annotated[str, StringConstraints(max_length=65536, pattern=r"^[^\x00]*$")] = ""

    @model_validator(mode="after")
    def _reason_fits_state(self) -> Self:
        allowed = REASONS.get(self.state, frozenset())
        if self.reason is not None and self.reason not in allowed:
            known = ", ".join(sorted(allowed)) or "none"
            raise ValueError(f"reason {self.reason!r} does not go with {self.state}; known: {known}")
        return self


class PartReport(StateTold):
    """How one component stands, told beside what is said of the whole: its own state and percent, why it went bad, and
    its own log, down to the lines of a bus."""


class ReportIn(StateTold):
    """One numbered word about an attempt. ``rate`` bytes per second, ``at`` the device's time. With ``goes_on`` a
    failure is that of one ``component`` alone: the device goes on with the others, which the release must allow.
    ``parts`` tells how each component stands; one that went back because of another has no reason of its own.
    ``confirmed`` names the ``digests`` of what it vouches for, by component (from updater 2 on); ``installing`` the
    number of the ``clearance`` by which it switches."""

    model_config = ConfigDict(extra="ignore", populate_by_name=True)

    boots: Whole
    seq: Whole
    attempt: Whole
    try_number: Annotated[int, Field(strict=True, ge=1, le=1000)] = Field(default=1, alias="try")
    step: DownloadStep | None = None
    rate: Whole | None = None
    component: ComponentName | None = None
    goes_on: StrictBool = False
    parts: dict[ComponentName, PartReport] = Field(default_factory=dict, max_length=32)
    digests: dict[ComponentName, Digest] = Field(default_factory=dict, max_length=32)
    tests: list[SelfTest] = Field(default_factory=list, max_length=64)
    clearance: Whole | None = None
    at: Moment | None = None

    @model_validator(mode="after")
    def _has_its_reason(self) -> Self:
        allowed = REASONS.get(self.state, frozenset())
        if self.reason is None and allowed:
            raise ValueError(f"{self.state} needs a reason; known: {', '.join(sorted(allowed))}")
        return self


class ReportsIn(DeviceModel):
    """Reports in the order in which they were made; they may be sent again."""

    reports: list[ReportIn] = Field(min_length=1, max_length=MOST_REPORTS)


class LogLine(DeviceModel):
    """One line of a device's log, numbered within its boot; ``at`` is the device's time."""

    boots: Whole
    number: Whole
    at: Moment | None = None
    text: Annotated[str, StringConstraints(max_length=1000, pattern=r"^[^\x00]*$")]


class LogsIn(DeviceModel):
    """Log lines in order; they may be sent again."""

    lines: list[LogLine] = Field(min_length=1, max_length=500)
