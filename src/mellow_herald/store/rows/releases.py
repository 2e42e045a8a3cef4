"""Stored boards, key lists, releases and baselines."""

from datetime import datetime
from typing import Any, TypedDict


class StoredBoard(TypedDict):
    """A row of ``tables.Board``."""

    name: str
    vendor_domain: str
    lines: list[str]
    hw_revs: list[int]
    slots: list[dict[str, Any]]
    components: list[dict[str, Any]]
    runs: str
    run_address: int | None
    check_in_s: int
    check_in_exceptions: list[dict[str, str]]
    listen_at_most: int
    added_at: datetime


class StoredKeyList(TypedDict):
    """A row of ``tables.KeyListRow``."""

    number: int
    root: bytes
    body: bytes
    published_at: datetime


class StoredRelease(TypedDict):
    """A row of ``tables.Release``."""

    id: int
    board: str
    line: str
    version: str
    version_key: bytes
    state: str
    floor: int
    hw_rev_min: int
    hw_rev_max: int
    needs: dict[str, Any]
    independent: bool
    restart: bool
    notes: str
    labels: dict[str, str]
    revision: int
    checks: list[dict[str, str]]
    manifest_digest: str
    authentication: bytes
    manifest: bytes
    kid: str
    uploaded_at: datetime
    uploaded_by: str
    published_at: datetime | None
    published_by: str | None
    withdrawn_at: datetime | None
    withdrawn_by: str | None
    withdrawn_why: str | None
    cleaned_at: datetime | None


class StoredBaseline(TypedDict):
    """A row of ``tables.Baseline``."""

    board: str
    line: str
    release_id: int
    set_at: datetime
    set_by: str
    brings: bool
