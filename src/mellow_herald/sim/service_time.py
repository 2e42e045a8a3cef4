"""The sim's time: the service's, as its answers tell it."""

import asyncio
import time
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta


class ServiceTime:
    """Follows ``Herald-Time`` and its scale; one for all devices of a process. ``monotonic`` is the clock it goes by
    between two answers (seconds)."""

    def __init__(self, monotonic: Callable[[], float] = time.monotonic) -> None:
        self.monotonic = monotonic
        self.scale = 1.0
        self._said: datetime | None = None
        self._heard_at = 0.0

    def learn(self, headers: Mapping[str, str]) -> None:
        """Takes the time from an answer's headers."""
        said = headers.get("herald-time")
        if said is not None:
            self._said, self._heard_at = datetime.fromisoformat(said), self.monotonic()
            self.scale = float(headers.get("herald-time-scale", "1"))

    def now(self) -> datetime | None:
        """The present service time, or None before the first answer."""
        if self._said is None:
            return None
        return self._said + timedelta(seconds=(self.monotonic() - self._heard_at) * self.scale)

    def text(self) -> str | None:
        """The present service time in RFC 3339, or None before the first answer."""
        now = self.now()
        return None if now is None else now.isoformat()

    def uptime(self, since: float) -> int:
        """Service seconds since the monotonic time ``since``."""
        return int((self.monotonic() - since) * self.scale)

    async def sleep(self, seconds: float) -> None:
        """Sleeps ``seconds`` of service time."""
        await asyncio.sleep(seconds / self.scale)
