"""Devices on narrow radio, and the sessions in which groups of them are sent a release."""

from typing import Annotated, Literal

from pydantic import Field, StrictBool, StringConstraints

from mellow_herald.core.radio.air import Region
from mellow_herald.wire.device import RadioPackages, RadioPorts, RootKey
from mellow_herald.wire.model import Model, Name, Reason, Shown, Time

Eui = Annotated[str, StringConstraints(pattern=r"^[0-9a-f]{16}$"), Field(examples=["70b3d57ed0000101"])]


class RadioEntry(Model):
    """What is to be on record of a device's radio; what is left out stays as it is, or is as usual for a device of
    which nothing was on record. ``root_key`` is written and never shown."""

    serial: Name
    eui: Eui | None = None
    region: Region | None = None
    device_class: Literal["B", "C"] | None = None
    lorawan: Literal["1.0", "1.1"] | None = None
    interval_s: Annotated[int, Field(strict=True, ge=10, le=86_400)] | None = None
    ports: RadioPorts | None = None
    packages: RadioPackages | None = None
    most_fragment: Annotated[int, Field(strict=True, ge=8, le=239)] | None = None
    root_key: RootKey | None = None


class RadioEntries(Model):
    """What is to be on record of up to a thousand devices' radios; ``check`` writes nothing."""

    devices: Annotated[list[RadioEntry], Field(min_length=1, max_length=1000)]
    reason: Reason = "radio facts recorded"
    check: StrictBool = False


class RadioRefusal(Shown):
    """A device whose radio was not recorded, and why."""

    serial: str
    kind: str
    detail: str


class RadioReport(Shown):
    """What was recorded (or would be, with ``check``): serials, and those that were refused."""

    changed: list[str]
    unchanged: int
    refusals: list[RadioRefusal]


class RadioDeviceOut(Shown):
    """A device on narrow radio. ``radio`` tells whether it can take part in a session: ``ready``, ``no-packages`` or
    ``no-key``; ``key_proved_at`` when a session showed that the key on record is its own; ``lost`` the share of
    fragments that it lost in its last session, in bursts of ``burst`` on average; ``rssi`` in dBm."""

    serial: str
    eui: str
    radio: str
    region: Region
    device_class: str
    lorawan: str
    interval_s: int
    ports: RadioPorts
    packages: RadioPackages
    most_fragment: int | None
    has_key: bool
    key_proved_at: Time | None
    clock_at: Time | None
    lost: float | None
    burst: float | None
    heard_at: Time | None
    rssi: int | None
    data_rate: int | None


class RadioNetworkOut(Shown):
    """The radio network that the service follows (``url`` None: none), when it was last heard, what is the trouble with
    it, and how many devices are on narrow radio, by whether they can take part in a session."""

    url: str | None
    region: str | None
    heard_at: Time | None
    trouble: str
    devices: dict[str, int]


class RadioMemberOut(Shown):
    """A device in a session. ``step`` is what it is to be told next (``clock``, ``group``, ``session``, ``fragments``),
    then ``ready`` and ``complete``; ``ready`` whether it was ready when the session began (None: that is to come);
    ``received`` and ``missing`` are what it told last, ``recovered`` what it made up for by parity; ``state`` is that
    of its attempt by now."""

    serial: str
    eui: str
    attempt_id: int
    step: str
    ready: bool | None
    problem: str
    received: int
    missing: int | None
    recovered: int | None
    lost: int | None
    complete: bool
    state: str
    reason: str | None
    heard_at: Time | None


class RadioSessionOut(Shown):
    """One transmission of a release to a group. ``state`` is ``setting-up``, ``sending`` or ``ended``; ``length_s`` is
    how long it was expected to take, ``expected_share`` the share of members expected to need no repair; ``counts`` are
    members by step, ``late`` those that were not ready when it began; ``postponed`` how often it was put off, nobody
    being ready; ``trouble`` says why it does not go on."""

    id: int
    rollout_id: int
    repair_of: int | None
    state: str
    outcome: str | None
    trouble: str
    region: Region
    data_rate: int
    frequency: int
    fragment: int
    redundancy: int
    fragments: int
    coded: int
    on_air_s: float
    apart_s: float
    first_number: int
    to_send: int
    sent: int
    length_s: float
    expected_share: float
    planned_at: Time
    begins_at: Time
    began_at: Time | None
    ended_at: Time | None
    answers_until: Time | None
    postponed: int = 0
    counts: dict[str, int]
    complete: int
    late: list[str]
    members: list[RadioMemberOut] = Field(default_factory=list)


class RadioForecast(Shown):
    """How a ring's devices on narrow radio would be sent to: size of the block (bytes), fragments and parity, seconds
    that one is on the air and from one to the next, how long it takes in all, from when on it can begin, the share of
    devices expected to need no repair at the loss that was measured (``measured``: of so many; the others are taken to
    lose as usual), and the share of a battery's day that listening takes (``energy``: low, medium or high)."""

    ring: str
    devices: int
    bytes: int
    region: Region
    data_rate: int
    frequency: int
    fragment: int
    fragments: int
    redundancy: int
    coded: int
    on_air_s: float
    apart_s: float
    length_s: float
    earliest: Time
    begins_at: Time
    ends_at: Time
    slowest: str
    slowest_s: int
    measured: int
    expected_share: float
    repair: str
    energy: str
