"""Stored devices that speak CoAP."""

from datetime import datetime
from typing import TypedDict


class StoredCoapDevice(TypedDict):
    """A row of ``tables.CoapDevice``."""

    device_id: int
    secret: bytes | None
    secret_at: datetime | None
    proved_at: datetime | None
    sent: int
    location: str | None
    address: str | None
    reached_at: str | None
    lifetime_s: int | None
    queue: bool
    objects: list[str]
    registered_at: datetime | None
    heard_at: datetime | None
    expires_at: datetime | None
    gone: str
    state: int | None
    result: int | None
    told_at: datetime | None
    protocols: list[int]
    delivery: int | None
    says_version: str | None
    says_digest: bool
    method: str | None
    block: int | None
    manifest: str | None
    attempt_id: int | None
    try_number: int | None
    ticket: str | None
    executed_at: datetime | None
    boots: int
    seq: int
    trouble: str
    trouble_at: datetime | None
