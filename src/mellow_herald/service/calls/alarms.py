"""Alarms that devices bring with their check-ins."""

from mellow_herald.core.alarms import explained_by
from mellow_herald.service.calls.batch import Batch
from mellow_herald.store.rows import StoredDevice
from mellow_herald.wire.device import CheckinIn


def note_alarms(batch: Batch, device: StoredDevice, checkin: CheckinIn) -> None:
    """Writes them down, each with the update that explains it, if one does. A device without a clock, or with one that
    is ahead, noticed it just now."""
    for alarm in checkin.alarms:
        at = batch.now if alarm.at is None else min(alarm.at, batch.now)
        batch.alarms.append(
            {
                "device_id": device["id"],
                "kind": alarm.kind,
                "about": alarm.about,
                "at": at,
                "heard_at": batch.now,
                "detail": alarm.text,
                "attempt_id": explained_by(at, device["serial"], alarm.about, batch.updates.get(alarm.about, [])),
            }
        )
