"""Stored rollouts, rings and attempts."""

from datetime import datetime
from typing import Any, TypedDict

from mellow_herald.store.rows.fleet import Contents


class StoredRollout(TypedDict):
    """A row of ``tables.Rollout``."""

    id: int
    name: str
    release_id: int
    second_release_id: int | None
    chosen: int | None
    plan: dict[str, Any]
    target: str
    revision: int
    plan_digest: str | None
    overtakes: bool
    state: str
    reason: str | None
    created_by: str
    created_at: datetime
    started_at: datetime | None
    round_at: datetime | None
    round: int
    watch: dict[str, Any]
    kind: str
    rolls_back: int | None
    scope: dict[str, Any]
    ended_at: datetime | None
    halt_number: int | None
    halted_why: str | None
    outcome: str | None
    targeted: int
    request_key: str | None


class StoredRing(TypedDict):
    """A row of ``tables.RingRow``."""

    rollout_id: int
    position: int
    name: str
    state: str
    planned: int
    go_at: datetime | None
    asks: str | None
    asks_why: str | None
    stands_why: str | None
    anyway_bad: int | None
    anyway_round: int | None
    opened_at: datetime | None
    soak_until: datetime | None
    done_at: datetime | None


class StoredAttempt(TypedDict):
    """A row of ``tables.AttemptRow``."""

    id: int
    rollout_id: int
    device_id: int
    ring: int
    from_version: str | None
    from_digest: str | None
    came_from: Contents
    facts: dict[str, str]
    parts: dict[str, dict[str, Any]]
    created_at: datetime
    changed_at: datetime
    live: bool
    state: str
    reason: str | None
    try_number: int
    tries: int
    soak_s: int
    retry_pause_s: int
    last_boots: int | None
    last_seq: int | None
    step: str | None
    percent: int | None
    rate: int | None
    waiting_for: str | None
    waiting_until: datetime | None
    offered_at: datetime | None
    exposed_at: datetime | None
    confirmed_at: datetime | None
    soak_until: datetime | None
    retry_at: datetime | None
    clearance: int | None
    clearance_until: datetime | None
    undelivered_at: datetime | None
    undelivered_why: str | None
    harmed_at: datetime | None
    harmed_why: str | None
    first_bad_at: datetime | None
    first_bad_why: str | None
    first_bad_try: int | None
    fetched: int
    unasked_at: datetime | None
    waiting_since: datetime | None
    retry_bad: bool
    installs: int
    vouched: bool
    leave_unknown: bool
    cluster: str | None
    before: dict[str, Any]
    back_to: dict[str, str] | None
    back_release_id: int | None
    closed: bool
    left_out: bool
    wave: int | None
    evidence_at: datetime | None
    release_id: int | None
    lot: int | None


class StoredAttemptEvent(TypedDict):
    """A row of ``tables.AttemptEvent``."""

    id: int
    attempt_id: int
    at: datetime
    said_by: str
    what: str
    try_number: int
    state: str | None
    reason: str | None
    step: str | None
    percent: int | None
    component: str | None
    detail: str
    tests: list[dict[str, Any]]
    log: str


class StoredSettlement(TypedDict):
    """A row of ``tables.Settlement``."""

    id: int
    attempt_id: int
    at: datetime
    state_before: str
    reason_before: str | None
    state: str
    reason: str | None
    why: str


class DeviceAttemptEvent(StoredAttemptEvent):
    """What happened in an attempt, and in which rollout."""

    rollout_id: int
