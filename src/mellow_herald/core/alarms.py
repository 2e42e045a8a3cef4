"""Which alarms an update explains: those about a device that was restarting for it."""

from dataclasses import dataclass
from datetime import datetime, timedelta

# Clocks differ a little, and a device notices its neighbour's restart a moment before that neighbour's report is read.
SLACK = timedelta(minutes=1)


@dataclass(frozen=True, slots=True)
class UpdateTime:
    """When a device was on its way to new firmware: from its clearance until it was decided (None: it is still under
    way), and how long its rollout waits for an answer."""

    attempt_id: int
    exposed_at: datetime
    decided_at: datetime | None
    answer_within: timedelta

    def explains(self, at: datetime) -> bool:
        """Whether an alarm about the device at this time is the update's doing."""
        if at < self.exposed_at - SLACK:
            return False
        return self.decided_at is None or at <= self.decided_at + self.answer_within


def explained_by(at: datetime, updates: list[UpdateTime]) -> int | None:
    """The attempt whose update explains an alarm about its device, the newest if there are several."""
    return max((one.attempt_id for one in updates if one.explains(at)), default=None)
