"""Stored devices on narrow radio, and their sessions."""

from datetime import datetime
from typing import Any, TypedDict


class StoredRadioDevice(TypedDict):
    """A row of ``tables.RadioDevice``."""

    device_id: int
    eui: str
    region: str
    device_class: str
    lorawan: str
    interval_s: int
    ports: dict[str, int]
    packages: dict[str, int | None]
    most_fragment: int | None
    root_key: bytes | None
    key_proved_at: datetime | None
    session_count: int
    boots: int
    seq: int
    spoken: int
    clock_at: datetime | None
    lost: float | None
    burst: float | None
    heard_at: datetime | None
    rssi: int | None
    data_rate: int | None
    changed_at: datetime


class StoredRadioSession(TypedDict):
    """A row of ``tables.RadioSession``."""

    id: int
    rollout_id: int
    repair_of: int | None
    state: str
    manifest: str
    region: str
    data_rate: int
    frequency: int
    fragment: int
    redundancy: int
    fragments: int
    coded: int
    first_number: int
    ask_after: int
    on_air_s: float
    apart_s: float
    time_out: int
    spread: int
    address: int
    group_key: bytes
    next_counter: int
    sent: int
    answers_until: datetime | None
    asked_after: int | None
    ask_next_after: int | None
    expected_s: float
    expected_share: float
    planned_at: datetime
    begins_at: datetime
    began_at: datetime | None
    ended_at: datetime | None
    outcome: str | None
    postponed: int
    trouble: str


class StoredRadioMember(TypedDict):
    """A row of ``tables.RadioMember``."""

    session_id: int
    device_id: int
    attempt_id: int
    try_number: int
    session_count: int
    clock_at: datetime | None
    in_group: bool
    has_session: bool
    has_fragments: bool
    problem: str
    received: int
    missing: int | None
    lost: int | None
    recovered: int | None
    complete: bool
    ready: bool | None
    told: dict[str, Any] | None
    heard_at: datetime | None


class StoredRadioWish(TypedDict):
    """A row of ``tables.RadioWish``."""

    device_id: int
    attempt_id: int
    rollout_id: int
    try_number: int
    manifest: str
    at: datetime


class StoredRadioNetwork(TypedDict):
    """A row of ``tables.RadioNetworkRow``."""

    id: int
    url: str
    run: str
    uplinks: int
    region: str
    heard_at: datetime | None
    trouble: str
