"""How often devices are told to call."""

from datetime import timedelta

# A device with something at hand calls so many times as often as usual, and one that soaks so many times in its soak.
LIVE_PART, SOAK_PART = 4, 2
SOONEST_S = 10
# Every interval is spread by so much of it, so that a fleet that was cut off together does not come back together.
SPREAD = 0.1


def calls_every(interval_s: int, *, soak: timedelta | None, live: bool) -> int:
    """After how many seconds a device that usually calls every ``interval_s`` is to call next: while it soaks often
    enough to be heard within its ``soak`` (a long one needs no more calls than usual), while ``live`` sooner."""
    found = interval_s
    if soak is not None:
        found = max(SOONEST_S, min(found, int(soak.total_seconds()) // SOAK_PART))
    return max(SOONEST_S, found // LIVE_PART) if live else found
