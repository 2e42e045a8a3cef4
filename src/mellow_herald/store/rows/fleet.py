"""Stored devices, and what they said."""

from datetime import datetime
from typing import Any, TypedDict

# What a device's slots hold, by component: ``version``, ``digest``, ``slot``, ``floor``, as far as it told.
Contents = dict[str, dict[str, Any]]


class StoredCode(TypedDict):
    """A row of ``tables.EnrolmentCode``."""

    id: int
    code_hash: str
    board: str
    line: str
    labels: dict[str, str]
    ask: bool
    uses: int
    used: int
    created_at: datetime
    expires_at: datetime


class StoredList(TypedDict):
    """A row of ``tables.SerialList``."""

    id: int
    digest: str
    devices: int
    added_at: datetime
    added_by: str


class StoredDevice(TypedDict):
    """A row of ``tables.Device``."""

    id: int
    serial: str
    board: str
    line: str
    hw_rev: int
    labels: dict[str, str]
    gateway: str | None
    admission: str
    generation: int
    nonce_hash: str | None
    token_used: bool
    may_enrol_again: bool
    note: str
    pinned_until: datetime | None
    pinned_by: str | None
    pinned_why: str | None
    running: Contents
    standby: Contents
    version: str | None
    version_key: bytes | None
    version_keys: dict[str, str]
    digest: str | None
    floor: int | None
    updater: int | None
    settings_digest: str | None
    parts: str | None
    enrolled_at: datetime
    changed_at: datetime
    rescued_at: datetime | None
    cloned_at: datetime | None
    log_until: datetime | None
    arriving: bool
    on_bench: bool
    radio: str | None
    radio_region: str | None
    radio_interval_s: int | None
    coap_lifetime_s: int | None


class StoredSelection(TypedDict):
    """A row of ``tables.SelectionRow``."""

    name: str
    selector: str
    note: str
    saved_at: datetime
    saved_by: str


class StoredPulse(TypedDict):
    """A row of ``tables.Pulse``."""

    device_id: int
    seen_at: datetime
    boots: int
    seq: int
    interval_s: int
    next_s: int
    condition: dict[str, Any]
    readings: dict[str, Any]
    odd: dict[str, Any] | None


class StoredLogLine(TypedDict):
    """A row of ``tables.DeviceLog``."""

    id: int
    device_id: int
    boots: int
    number: int
    at: datetime
    heard_at: datetime
    text: str


class StoredDeviceEvent(TypedDict):
    """A row of ``tables.DeviceEvent``."""

    id: int
    device_id: int
    at: datetime
    what: str
    count: int
    detail: str
