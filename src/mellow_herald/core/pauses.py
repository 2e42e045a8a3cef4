"""Growing pauses between tries of which too many failed."""

from collections.abc import Hashable, Iterable
from dataclasses import dataclass

# How long failures are remembered after the last of them, in seconds, and of how many keys.
REMEMBERED_S, KEPT = 900.0, 10_000


@dataclass(slots=True)
class _Failures:
    count: int
    at: float
    until: float


class Pauses:
    """Failures by key. The first ``free`` of them cost nothing; from then on each is followed by a pause, of
    ``first_s`` seconds and then twice as long each time, up to ``longest_s``. Times are seconds."""

    def __init__(self, free: int = 5, first_s: float = 1.0, longest_s: float = 60.0) -> None:
        self._free, self._first_s, self._longest_s = free, first_s, longest_s
        self._failures: dict[Hashable, _Failures] = {}

    def wait(self, keys: Iterable[Hashable], now: float) -> float:
        """For how many seconds a try under these keys is to wait; 0 if it may be made."""
        return max((failures.until - now for key in keys if (failures := self._failures.get(key))), default=0.0)

    def count(self, keys: Iterable[Hashable], now: float) -> None:
        """Counts a failure under each of these keys."""
        for key in keys:
            failures = self._failures.get(key)
            if failures is None or now - failures.at > REMEMBERED_S:
                self._make_room(now)
                failures = self._failures[key] = _Failures(0, now, now)
            failures.count, failures.at = failures.count + 1, now
            beyond = failures.count - self._free
            if beyond >= 0:
                failures.until = now + min(self._longest_s, self._first_s * 2.0 ** min(beyond, 30))

    def forgive(self, keys: Iterable[Hashable]) -> None:
        """Forgets what failed under these keys."""
        for key in keys:
            self._failures.pop(key, None)

    def _make_room(self, now: float) -> None:
        if len(self._failures) < KEPT:
            return
        self._failures = {key: one for key, one in self._failures.items() if now - one.at <= REMEMBERED_S}
        if len(self._failures) >= KEPT:
            # The oldest come first, since a dictionary keeps the order of its keys. A tenth of them at once: whoever
            # comes under ever new keys is not to make us look through all of them each time.
            for key in list(self._failures)[: KEPT // 10]:
                del self._failures[key]
