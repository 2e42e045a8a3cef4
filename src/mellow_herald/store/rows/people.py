"""Stored people and credentials."""

from datetime import datetime
from typing import TypedDict


class StoredPerson(TypedDict):
    """A row of ``tables.Person``."""

    id: int
    name: str
    roles: list[str]
    password_hash: str
    must_change: bool
    only: str | None
    created_at: datetime
    closed_at: datetime | None


class StoredCredential(TypedDict):
    """A row of ``tables.Credential``."""

    id: int
    person_id: int
    kind: str
    name: str
    secret_hash: str
    created_at: datetime
    expires_at: datetime
    closed_at: datetime | None
    only_for: str | None
