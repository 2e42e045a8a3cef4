"""Whether a confirmed device went bad within its soak, as its check-ins show it. That it runs something else again is
seen before that: ``core.attempt.settling``."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

# So many restarts since it confirmed, within its soak, are no accident.
CRASH_LOOP_RESTARTS = 3


class Worse(StrEnum):
    """In which direction a reading gets worse."""

    LOWER = "lower"
    HIGHER = "higher"


class Measure(StrEnum):
    """What of a reading is watched: its value, as check-ins tell it, or how it moves in a day, as its course over time
    shows, which has to be listened to."""

    VALUE = "value"
    PER_DAY = "per-day"


@dataclass(frozen=True, slots=True)
class ReadingRule:
    """A reading to watch: worse than before the update by more than the share ``by`` (0–) of what it was, and by at
    least ``at_least`` in its own unit (or that a day)."""

    name: str
    worse: Worse
    by: float = 0.2
    at_least: float = 0.0
    measure: Measure = Measure.VALUE

    def broken(self, before: float, after: float) -> bool:
        """Whether ``after`` is that much worse than ``before``, on the same device."""
        loss = before - after if self.worse is Worse.LOWER else after - before
        return loss > self.by * abs(before) and loss >= self.at_least and loss > 0


@dataclass(frozen=True, slots=True)
class Quiet:
    """What is known of a device in its soak: the boot in which it confirmed, its readings before the switch, and those
    of its last two calls, the newest last."""

    confirmed_boot: int
    before: Mapping[str, float]
    readings: Sequence[Mapping[str, float]]


def relapse(known: Quiet, boots: int, rules: Sequence[ReadingRule]) -> tuple[str, str] | None:
    """The reason why it counts as relapsed, and a sentence about it; None while it runs quietly.

    A reading counts only if it is worse in two calls running: one may be a passing dip.
    """
    restarts = boots - known.confirmed_boot
    if restarts >= CRASH_LOOP_RESTARTS:
        return "crash-looping", f"{restarts} restarts since it confirmed"
    for rule in rules:
        if rule.measure is not Measure.VALUE:  # that takes more than two calls to see
            continue
        was = known.before.get(rule.name)
        heard = [call.get(rule.name) for call in known.readings]
        if was is None or len(heard) < 2:
            continue
        if all(value is not None and rule.broken(was, value) for value in heard):
            return "readings-worse", f"{rule.name} {heard[-1]:g}, before the update {was:g}"
    return None
