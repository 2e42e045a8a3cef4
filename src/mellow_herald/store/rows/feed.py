"""Stored events, webhooks and journal entries."""

from datetime import datetime
from typing import Any, TypedDict


class StoredEvent(TypedDict):
    """A row of ``tables.Outbox`` that was sealed: before, it is nobody's to read."""

    id: int
    sealed: int
    at: datetime
    kind: str
    rollout_id: int | None
    device_id: int | None
    attempt_id: int | None
    data: dict[str, Any]


class StoredWebhook(TypedDict):
    """A row of ``tables.Webhook``."""

    id: int
    url: str
    secret: str
    kinds: list[str]
    headers: dict[str, str]
    note: str
    made_by: str
    made_at: datetime
    closed_at: datetime | None
    cursor: int
    delivered: int
    delivered_at: datetime | None


class StoredDelivery(TypedDict):
    """A row of ``tables.Delivery``."""

    id: int
    webhook_id: int
    event: int
    body: dict[str, Any]
    dead: bool
    tries: int
    made_at: datetime
    next_at: datetime
    failure: str


class StoredEntry(TypedDict):
    """A row of ``tables.JournalRow``."""

    id: int
    link: int | None
    hash: str | None
    at: datetime
    who: str
    what: str
    subject: str
    why: str
    data: dict[str, Any]
