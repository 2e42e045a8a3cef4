"""Devices by the thousand, and those that somebody must go to."""

from mellow_herald.wire.model import Shown, Time


class Refusal(Shown):
    """A line of an import that was refused: its number from 1, and why."""

    line_number: int
    serial: str
    kind: str
    detail: str


class FieldChange(Shown):
    """A value before and after; null: nothing there."""

    before: str | None
    after: str | None


class Change(Shown):
    """What an import does to a device that is known, by label, note or gateway."""

    serial: str
    fields: dict[str, FieldChange]


class ImportReport(Shown):
    """What an import did (or with ``check`` would do). ``refusals`` has the first thousand, and so have ``new`` and
    ``changes``, which say with ``check`` what would be added and changed."""

    added: int
    changed: int
    unchanged: int
    refused: int
    refusals: list[Refusal]
    new: list[str] = []
    changes: list[Change] = []


class Visit(Shown):
    """A device that somebody must go to, and why."""

    serial: str
    board: str
    line: str
    site: str
    why: str
    seen_at: Time
    version: str | None
    gateway: str | None
    labels: dict[str, str]
    note: str


class FactName(Shown):
    """A name that a selector may speak of; ``kind`` is text, number, version, flag, age or label."""

    name: str
    kind: str


class FactValue(Shown):
    """A value that a fact or label has, and how many devices have it."""

    value: str
    devices: int
