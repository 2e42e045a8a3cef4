"""How many devices will be able to switch within a day, from how they were in the hours of the last week.

Of each device and hour one word is kept: what it said of itself when it first called in that hour. A day of the past
counts for a device if in at least one of its hours, among those in which the plan lets it switch, it was heard of and
met the condition; the share of such days is its chance for the day to come. A sum of chances is bounded as one
of independent devices whose chances are themselves known from so many days only, or, where that is wider, by how much
the sum has changed from day to day.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import numpy.typing as npt

from mellow_herald.core.needs import Needs

HOURS, DAYS = 24, 7
# A device of which fewer days are known says nothing yet.
LEAST_DAYS = 3
# Bounds that hold in nine cases of ten.
Z = 1.645
HEARD, CHARGING, BUSY = 1, 2, 4
OWNER_SHIFT, BATTERY_SHIFT = 3, 5
OWNERS = {"postponed": 1, "must-consent": 2}
UNSAID = 127
TOGETHER = "all"
Words = npt.NDArray[np.int16]
Flags = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Foreseen:
    """Devices that can meet a ``condition`` within the next 24 hours: ``low``, ``expected`` and ``high`` of those with
    at least three days of history, ``unknown`` the others; ``ever`` is how many ever met it in the last week. The
    condition ``all`` is that of every need and the plan's windows together."""

    condition: str
    low: int
    expected: float
    high: int
    unknown: int
    ever: int


def word_of(condition: Mapping[str, Any]) -> int:
    """What a device said of itself, as one number below 2¹²; never 0, which stands for not heard of."""
    battery = condition.get("battery")
    level = UNSAID if battery is None else max(0, min(100, int(battery)))
    return (
        HEARD
        | (CHARGING if condition.get("charging") else 0)
        | (BUSY if condition.get("busy") else 0)
        | OWNERS.get(str(condition.get("owner")), 0) << OWNER_SHIFT
        | level << BATTERY_SHIFT
    )


def foresee(words: Words, needs: Needs, may_switch: Flags, *, windows: bool) -> list[Foreseen]:
    """What can be foreseen of these devices for the 24 hours that begin now.

    ``words`` has a row for each device and ``DAYS`` · 24 hours that end now, oldest first (0: not heard of);
    ``may_switch`` tells for each device and each of the 24 hours to come whether the plan's windows let it switch
    then, and ``windows`` whether the plan has any. A condition that the plan does not ask for is left out.
    """
    by_day = words.reshape(len(words), DAYS, HOURS)
    heard = by_day != 0
    known = heard.any(axis=2)
    allowed = may_switch[:, None, :]
    met = met_to_switch(by_day, needs)
    together = np.broadcast_to(allowed, by_day.shape)
    for one in met.values():
        together = together & one
    if windows:
        met["window"] = np.broadcast_to(allowed, by_day.shape)
    met[TOGETHER] = together
    return [_count(name, (heard & one).any(axis=2), known) for name, one in met.items()]


def met_to_switch(words: Words, needs: Needs) -> dict[str, Flags]:
    """For each condition that the plan asks of a device that switches, in which hours it was met; ``words`` may have
    any shape."""
    owner = (words >> OWNER_SHIFT) & 3
    met = met_to_fetch(words, needs)
    if needs.not_busy:
        met["device-busy"] = (words & BUSY) == 0
    if not needs.urgent or needs.must_consent:
        met["owner"] = (owner != OWNERS["must-consent"]) & ((owner != OWNERS["postponed"]) | needs.urgent)
    return met


def met_to_fetch(words: Words, needs: Needs) -> dict[str, Flags]:
    """The same for what it asks of one that downloads; over which links it may is not told by hours."""
    battery, charging = words >> BATTERY_SHIFT, (words & CHARGING) != 0
    met: dict[str, Flags] = {}
    if needs.battery_at_least:
        met["battery"] = (battery == UNSAID) | (battery >= needs.battery_at_least) | charging
    if needs.charging:
        met["charger"] = charging
    return met


def _count(name: str, met: Flags, known: Flags) -> Foreseen:
    days = known.sum(axis=1)
    told = days >= LEAST_DAYS
    chance = (met & known).sum(axis=1)[told] / days[told]
    expected, most = float(chance.sum()), int(told.sum())
    own = float((chance * (1 - chance) * (1 + 1 / days[told])).sum())
    spread = Z * float(np.sqrt(max(own, _common(met[told], known[told]))))
    return Foreseen(
        name,
        max(0, int(np.floor(expected - spread))),
        expected,
        min(most, int(np.ceil(expected + spread))),
        int((~told).sum()),
        int((met & known).any(axis=1).sum()),
    )


def _common(met: Flags, known: Flags) -> float:
    """The variance of a day's sum as the last days show it: weather, and batteries that run down, meet many at once."""
    heard = known.sum(axis=0)
    totals = (met & known).sum(axis=0)[heard > 0] / heard[heard > 0] * len(met)
    return float(totals.var(ddof=1) * (1 + 1 / len(totals))) if len(totals) > 1 else 0.0


def week_of(days: Mapping[Any, Sequence[int]], now: datetime) -> Words:
    """The words of the last week's hours that end with the present one, oldest first, from those of each UTC day
    (24 words each)."""
    hours = np.zeros(DAYS * HOURS, np.int16)
    today = now.date().toordinal()
    # The hour at hand is the first of the coming day: it is not over, so the week ends with the one before it.
    for day, words in days.items():
        first = (day.toordinal() - today) * HOURS - now.hour + DAYS * HOURS
        for hour, word in enumerate(words):
            if 0 <= first + hour < DAYS * HOURS:
                hours[first + hour] = word
    return hours


class HourMarks:
    """Which devices were heard of in the present hour: one bit each."""

    def __init__(self) -> None:
        self._hour = -1
        self._bits = bytearray()

    def first(self, device_id: int, hour: int) -> bool:
        """Marks a device; tells whether this was its first time in ``hour`` (hours since 1970)."""
        if hour != self._hour:
            self._hour, self._bits = hour, bytearray(len(self._bits))
        place, bit = device_id >> 3, 1 << (device_id & 7)
        if place >= len(self._bits):
            self._bits.extend(bytes(place + 4096 - len(self._bits)))
        new = not self._bits[place] & bit
        self._bits[place] |= bit
        return new
