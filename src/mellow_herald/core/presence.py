"""Presence of a device, judged against its own check-in interval."""

from datetime import datetime, timedelta
from enum import StrEnum


class Presence(StrEnum):
    """Whether a device calls when it said it would."""

    ONLINE = "online"
    LATE = "late"  # two check-ins missed
    OFFLINE = "offline"  # five missed
    NEVER_SEEN = "never-seen"


LATE_AFTER, OFFLINE_AFTER = 2, 5


def presence(seen_at: datetime | None, interval: timedelta, now: datetime) -> Presence:
    """Presence at ``now`` of a device last heard at ``seen_at`` that calls every ``interval``."""
    if seen_at is None:
        return Presence.NEVER_SEEN
    missed = (now - seen_at) / interval
    if missed > OFFLINE_AFTER:
        return Presence.OFFLINE
    return Presence.LATE if missed > LATE_AFTER else Presence.ONLINE
