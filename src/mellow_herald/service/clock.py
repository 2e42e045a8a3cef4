"""The one clock: nothing else in the service asks for the time."""

from datetime import UTC, datetime

from mellow_herald.core.steady import SteadyTime
from mellow_herald.store.clock import Anchor


def wall_time() -> datetime:
    """What the machine's clock says, which somebody may set."""
    return datetime.now(UTC)


class Clock:
    """Service time, which may run faster than real time, and does not jump; and real time for what concerns people."""

    def __init__(self, anchor: Anchor, steady: SteadyTime) -> None:
        self._anchor, self.steady = anchor, steady

    @property
    def scale(self) -> float:
        """Service seconds per real second."""
        return self._anchor.scale

    def now(self) -> datetime:
        """Service time: rollouts, soak, windows, check-ins."""
        return self._anchor.at(self.steady.now())

    def real(self) -> datetime:
        """Real time: sessions, tokens, rate limits."""
        return wall_time()
