"""Enrolment codes and devices."""

from typing import Annotated, Any, Literal

from pydantic import Field, StrictBool, StringConstraints, model_validator

from mellow_herald.core.presence import Presence
from mellow_herald.wire.board import Where
from mellow_herald.wire.model import Duration, Labels, Model, Name, Reason, Shown, Text, Time
from mellow_herald.wire.rollout import PartOut
from mellow_herald.wire.topology import AlarmOut, CutOffOut


class CodeIn(Model):
    """Asks for an enrolment code for devices of one board and line; with ``ask`` a person admits each of them."""

    board: Name
    line: Name
    labels: Labels = Field(default_factory=dict, max_length=32)
    ask: StrictBool = False
    uses: Annotated[int, Field(strict=True, ge=1, le=1_000_000)] = 1000
    valid_for: Duration = "30d"


class CodeOut(Shown):
    """An enrolment code. ``code`` is shown once, when it is made."""

    id: int
    board: str
    line: str
    labels: dict[str, str]
    ask: bool = False
    uses: int
    used: int
    expires_at: Time
    code: str | None = None


class AdmissionIn(Model):
    """Admits, refuses or retires devices: those a selector picks, or those named."""

    to: Literal["admitted", "refused", "retired"]
    where: Where | None = None
    serials: list[Name] = Field(default_factory=list, max_length=10_000)
    reason: Reason

    @model_validator(mode="after")
    def _one_of_both(self) -> "AdmissionIn":
        if (self.where is None) == (not self.serials):
            raise ValueError("say which devices: either where, or serials")
        return self


class AdmissionOut(Shown):
    """The devices that were admitted, refused or retired."""

    serials: list[str]


class PinIn(Model):
    """Keeps devices on what they run for so long (``None`` lets them go): those a selector picks, or those named."""

    valid_for: Duration | None
    where: Where | None = None
    serials: list[Name] = Field(default_factory=list, max_length=10_000)
    reason: Reason

    @model_validator(mode="after")
    def _one_of_both(self) -> "PinIn":
        if (self.where is None) == (not self.serials):
            raise ValueError("say which devices: either where, or serials")
        return self


class DeviceEdit(Model):
    """What may be changed of a device: labels (null takes one off; others stay), the note, the gateway before it
    (empty: none), and whether it is a bench device, on which local builds are tried."""

    labels: dict[Name, Annotated[str, StringConstraints(max_length=200, pattern=r"^[^\x00]*$")] | None] = Field(
        default_factory=dict, max_length=32
    )
    note: Text | None = None
    gateway: Annotated[str, StringConstraints(max_length=200, pattern=r"^[^\x00]*$")] | None = None
    on_bench: StrictBool | None = None


class LabelsIn(Model):
    """Puts labels on devices or takes them off (null; others stay), and marks them as bench devices or no longer: those
    a selector picks, or those named."""

    labels: dict[Name, Annotated[str, StringConstraints(max_length=200, pattern=r"^[^\x00]*$")] | None] = Field(
        default_factory=dict, max_length=32
    )
    on_bench: StrictBool | None = None
    where: Where | None = None
    serials: list[Name] = Field(default_factory=list, max_length=10_000)
    reason: Reason | Literal[""] = ""

    @model_validator(mode="after")
    def _one_of_both(self) -> "LabelsIn":
        if (self.where is None) == (not self.serials):
            raise ValueError("say which devices: either where, or serials")
        if not self.labels and self.on_bench is None:
            raise ValueError("say what to change: labels, or on_bench")
        return self


class LogAsk(Model):
    """For how long a device is asked for its log lines; null: no longer."""

    valid_for: Duration | None = "30m"


class InstallIn(Model):
    """Brings a release to one device at once. ``again``: it runs it already and is to get it once more; ``older``,
    ``over_unknown_build`` and ``over_bench_build`` are meant although they are unusual."""

    release: Annotated[Text, Field(examples=["comb-s1/hive-scale/2.5.0"])]
    again: StrictBool = False
    older: StrictBool = False
    over_unknown_build: StrictBool = False
    over_bench_build: StrictBool = False
    reason: Reason = "tried on one device"


class LogLineOut(Shown):
    """A line of a device's log: ``at`` is the device's own time."""

    id: int
    boots: int
    number: int
    at: Time
    text: str


class DeviceOut(Shown):
    """A device as last heard; ``seen_at`` is the age of all of it. ``runs`` is ``release``, ``bench-build``,
    ``unknown-build``, ``recovery`` or ``unreadable``; ``on_bench`` marks a bench device; ``version`` is that of its
    bytes where a release has them, ``says_version`` what it says itself: where they differ (``version_differs``), the
    bytes are right; ``transport`` is by what it is reached: ``http``, ``coap`` or ``radio``; ``waiting`` says in words
    what is waited for, ``waiting_until`` until when that is expected."""

    id: int
    serial: str
    board: str
    line: str
    hw_rev: int
    labels: dict[str, str]
    admission: str
    presence: Presence
    seen_at: Time | None
    boots: int | None = None
    seq: int | None = None
    next_checkin_at: Time | None
    version: str | None
    says_version: str | None = None
    version_differs: bool = False
    digest: str | None
    known_build: bool | None
    runs: str | None = None
    on_bench: bool = False
    rescued_at: Time | None = None
    cloned_at: Time | None = None
    floor: int | None
    transport: str = "http"
    waiting: str | None = None
    waiting_until: Time | None = None
    attempt: "AttemptBrief | None" = None


class AttemptBrief(Shown):
    """A device's newest attempt in a word."""

    id: int
    rollout_id: int
    rollout: str
    state: str
    reason: str | None
    percent: int | None
    live: bool


class TimelineEntry(Shown):
    """One thing that happened to a device. ``said_by`` is ``device``, ``service``, or who decided it."""

    at: Time
    said_by: str
    rollout_id: int | None = None
    attempt_id: int | None = None
    try_number: int = 1
    what: str
    state: str | None = None
    reason: str | None = None
    step: str | None = None
    percent: int | None = None
    component: str | None = None
    detail: str = ""
    tests: list[dict[str, Any]] = Field(default_factory=list)
    log: str = ""


class ReleaseForDevice(Shown):
    """A release of a device's board, and whether it could take it: ``reason`` and ``why`` say why it would be passed
    over now, ``mend`` what can be done about it."""

    id: int
    release: str
    version: str
    line: str
    state: str
    runs_it: bool
    could_take: bool
    reason: str | None = None
    why: str = ""
    mend: str = ""


class Taken(Shown):
    """What a device was brought, by which rollout, and what became of it there."""

    at: Time
    release_id: int
    release: str
    scratch: bool
    rollout_id: int
    rollout: str
    state: str
    reason: str | None
    from_version: str | None


class DeviceReleases(Shown):
    """The releases of a device's board, the highest version first, and what it was brought, newest first."""

    releases: list[ReleaseForDevice]
    history: list[Taken]


class DeviceDetail(DeviceOut):
    """Everything known of one device. ``obstacles`` say why it cannot be updated (none: it can), ``behind`` are the
    devices that reach the network through it, ``way_back`` tells whether it can go back without a download;
    ``cut_off`` says that a gateway before it restarts; ``alarms`` are the newest that it raised or that are about it;
    ``parts`` how its components stand in its newest attempt, where that brings more than ``app``; ``standby_failed`` is
    why it cannot, where the other slot holds an image that went bad on it."""

    updater: int | None
    running: dict[str, Any]
    standby: dict[str, Any]
    condition: dict[str, Any]
    readings: dict[str, float]
    settings_digest: str | None
    note: str = ""
    may_enrol_again: bool = False
    pinned_until: Time | None = None
    pinned_by: str | None = None
    pinned_why: str | None = None
    enrolled_at: Time
    changed_at: Time
    interval_s: int | None = None
    gateway: str | None = None
    behind: list[str] = Field(default_factory=list)
    cut_off: CutOffOut | None = None
    alarms: list[AlarmOut] = Field(default_factory=list)
    parts: list[PartOut] = Field(default_factory=list)
    obstacles: list[str] = Field(default_factory=list)
    way_back: bool = False
    standby_failed: str | None = None
    log_until: Time | None = None
    timeline: list[TimelineEntry]
