"""Rows as they leave the store, typed: each has what a whole row of its table has. What a query adds or leaves out is
declared beside the query."""

from mellow_herald.store.rows.feed import StoredDelivery, StoredEntry, StoredEvent, StoredWebhook
from mellow_herald.store.rows.fleet import (
    Contents,
    StoredCode,
    StoredDevice,
    StoredDeviceEvent,
    StoredList,
    StoredLogLine,
    StoredPulse,
    StoredSelection,
)
from mellow_herald.store.rows.people import StoredCredential, StoredPerson
from mellow_herald.store.rows.releases import StoredBaseline, StoredBoard, StoredKeyList, StoredRelease
from mellow_herald.store.rows.rollouts import (
    DeviceAttemptEvent,
    StoredAttempt,
    StoredAttemptEvent,
    StoredRing,
    StoredRollout,
    StoredSettlement,
)

__all__ = [
    "Contents",
    "DeviceAttemptEvent",
    "StoredAttempt",
    "StoredAttemptEvent",
    "StoredBaseline",
    "StoredBoard",
    "StoredCode",
    "StoredCredential",
    "StoredDelivery",
    "StoredDevice",
    "StoredDeviceEvent",
    "StoredEntry",
    "StoredEvent",
    "StoredKeyList",
    "StoredList",
    "StoredLogLine",
    "StoredPerson",
    "StoredPulse",
    "StoredRelease",
    "StoredRing",
    "StoredRollout",
    "StoredSelection",
    "StoredSettlement",
    "StoredWebhook",
]
