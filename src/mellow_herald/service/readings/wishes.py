"""What each device is asked to send, in the memory of one process, so that a check-in costs nothing for it."""

from collections import defaultdict
from collections.abc import Iterable
from datetime import datetime

from mellow_herald.core.readings.listening import NOTHING, Asked, Wish, asked_of
from mellow_herald.store.readings.listenings import AskedDevice
from mellow_herald.store.readings.recordings import StoredRecording
from mellow_herald.wire.device import AskedSignal, ListenOut, RecordOut

# What the feed calls it when somebody is asked for something else.
EVENT = "listening"


class Wishes:
    """All that devices are asked for."""

    def __init__(self) -> None:
        self._asked: dict[int, Asked] = {}
        self._recordings: dict[int, RecordOut] = {}

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

    def take_recordings(self, rows: Iterable[StoredRecording]) -> set[int]:
        """Takes the recordings that devices are to send, the oldest first, in place of what was; returns the devices
        for which that is another one now."""
        before, self._recordings = self._recordings, {}
        for row in rows:
            asked = RecordOut(
                number=row["id"],
                begins=row["begins"].timestamp() - row["offset_s"],
                ends=row["ends"].timestamp() - row["offset_s"],
                signals=row["signals"],
                at_most=row["at_most"],
            )
            self._recordings.setdefault(row["device_id"], asked)
        return {one for one in before.keys() | self._recordings.keys() if before.get(one) != self._recordings.get(one)}

    def tell_recording(self, device_id: int, number: int) -> RecordOut | None:
        """The recording that a device is to send; None if that is ``number``, which it says it is about (0: none)."""
        asked = self._recordings.get(device_id)
        return None if asked is None or asked.number == number else asked

    @staticmethod
    def _of(asked: dict[int, Asked], device_id: int) -> Asked:
        return asked.get(device_id, NOTHING)
