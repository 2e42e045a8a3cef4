"""The tables, by noun. Every time in them comes from the service's clock, never from the database."""

from mellow_herald.store.tables.base import Base, gate_numbers
from mellow_herald.store.tables.feed import ClockRow, Delivery, JournalRow, Outbox, Webhook
from mellow_herald.store.tables.fleet import (
    ConditionDay,
    Device,
    DeviceEvent,
    DeviceLog,
    EnrolmentCode,
    Listed,
    Pulse,
    SelectionRow,
    SerialList,
)
from mellow_herald.store.tables.people import Credential, KnownAddress, MacKey, Person
from mellow_herald.store.tables.releases import (
    Baseline,
    Board,
    ImageRow,
    KeyListRow,
    LineageSample,
    PresenceSample,
    Release,
    ReleaseImage,
)
from mellow_herald.store.tables.rollouts import (
    AttemptEvent,
    AttemptRow,
    PassedOverRow,
    RingRow,
    RingSlice,
    Rollout,
    Settlement,
)

__all__ = [
    "AttemptEvent",
    "AttemptRow",
    "Base",
    "Baseline",
    "Board",
    "ClockRow",
    "ConditionDay",
    "Credential",
    "Delivery",
    "Device",
    "DeviceEvent",
    "DeviceLog",
    "EnrolmentCode",
    "ImageRow",
    "JournalRow",
    "KeyListRow",
    "KnownAddress",
    "LineageSample",
    "Listed",
    "MacKey",
    "Outbox",
    "PassedOverRow",
    "Person",
    "PresenceSample",
    "Pulse",
    "Release",
    "ReleaseImage",
    "RingRow",
    "RingSlice",
    "Rollout",
    "SelectionRow",
    "SerialList",
    "Settlement",
    "Webhook",
    "gate_numbers",
]
