"""The one clock: nothing else in the service asks for the time."""

from datetime import UTC, datetime

from mellow_herald.store.clock import Anchor


class Clock:
    """Service time, which may run faster than real time, and real time for what concerns people."""

    def __init__(self, anchor: Anchor) -> None:
        self._anchor = anchor

    @property
    def scale(self) -> float:
        """Service seconds per real second."""
        return self._anchor.scale

    def now(self) -> datetime:
        """Service time: rollouts, soak, windows, check-ins."""
        return self._anchor.at(self.real())

    def real(self) -> datetime:
        """Real time: sessions, tokens, rate limits."""
        return datetime.now(UTC)
