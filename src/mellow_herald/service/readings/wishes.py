"""What each device is asked to send, in the memory of one process, so that a check-in costs nothing for it."""

from collections import defaultdict
from collections.abc import Iterable
from datetime import datetime

from mellow_herald.core.readings.listening import NOTHING, Asked, Wish, asked_of
from mellow_herald.store.readings.listenings import AskedDevice
from mellow_herald.wire.device import AskedSignal, ListenOut

# What the feed calls it when somebody is asked for something else.
EVENT = "listening"


class Wishes:
    """All that devices are asked for."""

    def __init__(self) -> None:
        self._asked: dict[int, Asked] = {}

    def take(self, rows: Iterable[AskedDevice], now: datetime) -> set[int]:
        """Takes what is asked now in place of what was; returns the devices for which that is something else."""
        wishes: dict[int, list[Wish]] = defaultdict(list)
        for row in rows:
            wishes[row["device_id"]].append(Wish(tuple(row["signals"]), row["period_s"], row["until"]))
        before, self._asked = self._asked, {one: asked_of(each, now) for one, each in wishes.items()}
        known = before.keys() | self._asked.keys()
        return {one for one in known if self._of(before, one).number != self._of(self._asked, one).number}

    def tell(self, device_id: int, number: int, now: datetime) -> ListenOut | None:
        """What a device is to be told that says it was asked for ``number``; None if that is so."""
        asked = self._of(self._asked, device_id)
        if asked.number == number:
            return None
        signals = [
            AskedSignal(name=name, period_s=period, seconds=max(0, int((until - now).total_seconds())))
            for name, (period, until) in sorted(asked.signals.items())
        ]
        return ListenOut(number=asked.number, signals=signals)

    @staticmethod
    def _of(asked: dict[int, Asked], device_id: int) -> Asked:
        return asked.get(device_id, NOTHING)
