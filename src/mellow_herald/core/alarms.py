"""Which alarms an update explains: those about a device that was restarting for it."""

from dataclasses import dataclass
from datetime import datetime, timedelta

# Clocks differ a little, and a device notices its neighbour's restart a moment before that neighbour's report is read.
SLACK = timedelta(minutes=1)


@dataclass(frozen=True, slots=True)
class UpdateTime:
    """When a device (``serial``) was on its way to new firmware: from its clearance until it was decided (None: it is
    still under way), and how long its rollout waits for an answer."""

    serial: str
    attempt_id: int
    exposed_at: datetime
    decided_at: datetime | None
    answer_within: timedelta

    def explains(self, at: datetime) -> bool:
        """Whether an alarm about the device at this time is the update's doing."""
        if at < self.exposed_at - SLACK:
            return False
        return self.decided_at is None or at <= self.decided_at + self.answer_within


def explained_by(at: datetime, raised_by: str, about: str, updates: list[UpdateTime]) -> int | None:
    """The attempt whose update explains an alarm, the newest if there are several. ``updates`` are those of the device
    that it is about and of the gateways before that: who misses a neighbour does not see how far up the reason is. What
    a device notices of itself only its own update explains."""
    own = [one for one in updates if about != raised_by or one.serial == raised_by]
    return max((one.attempt_id for one in own if one.explains(at)), default=None)
