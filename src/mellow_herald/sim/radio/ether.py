"""The air between units and the network: who hears what, when, and what is lost on the way.

The gateway is half duplex: while it sends it hears nothing, and two that speak at once are both lost.
"""

import random
from collections import defaultdict, deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from mellow_herald.core.radio.air import (
    CHANNELS,
    FRAME_BYTES,
    DataRate,
    Region,
    data_rate,
    frame_time,
    interval,
    time_on_air,
)
from mellow_herald.core.radio.loss import Loss
from mellow_herald.sim.radio.unit import Unit

# Units speak with SF7 and 125 kHz, which both regions have.
UPLINKS = DataRate(7, 125_000, 222)
UPLINK_RATE = {Region.EU868: 5, Region.US915: 3}
UPLINKS_KEPT = 10_000


@dataclass(frozen=True, slots=True)
class Uplink:
    """What a unit said: numbered in the order in which it was heard; with its data rate, and how loud it was (dBm)."""

    number: int
    eui: str
    port: int
    payload: bytes
    at: datetime
    data_rate: int
    rssi: int


class NotAllowedError(ValueError):
    """What was to be sent may not be: it is too long for its data rate, or too soon for the channel."""


@dataclass(slots=True)
class Placed:
    """A unit in the field: how often and when it speaks by itself (None: whenever it is made to), what it loses, when
    it answers (None: it has nothing to), and when it listens for what waits for it. While it is not ``reached`` nothing
    gets to it or from it."""

    unit: Unit
    every: timedelta | None
    regular_at: datetime | None
    lost: Iterator[bool]
    loss: float = 0.0
    uplink_loss: float = 0.0
    reached: Callable[[], bool] = lambda: True
    answers_at: datetime | None = None
    listens_at: datetime | None = None

    @property
    def next_at(self) -> datetime | None:
        """When something happens with it next."""
        return min((at for at in (self.regular_at, self.answers_at, self.listens_at) if at is not None), default=None)


@dataclass(slots=True)
class Ether:
    """One network with its gateway. Uplinks of units are lost like what is sent to groups, but for themselves; after
    each the unit listens, ``receive_delay`` later, for what waits for it. ``heard`` is the number of the newest uplink,
    of which only the last are kept."""

    region: Region
    now: datetime
    rng: random.Random
    receive_delay: timedelta = timedelta(seconds=5)
    uplinks: deque[Uplink] = field(default_factory=lambda: deque(maxlen=UPLINKS_KEPT))
    heard: int = 0
    placed: dict[str, Placed] = field(default_factory=dict)
    free_at: datetime | None = None
    sent: int = 0
    on_air: float = 0.0
    _busy: list[tuple[datetime, datetime]] = field(default_factory=list)
    _queued: dict[str, deque[tuple[int, bytes]]] = field(default_factory=lambda: defaultdict(deque))

    def place(
        self,
        unit: Unit,
        every: timedelta | None,
        loss: Loss,
        uplink_loss: float = 0.0,
        reached: Callable[[], bool] = lambda: True,
    ) -> None:
        """Puts a unit into the field; when it speaks first is drawn."""
        first = None if every is None else self.now + every * self.rng.random()
        pattern = loss.pattern(random.Random(self.rng.random()))
        self.placed[unit.eui] = Placed(unit, every, first, pattern, loss.rate, uplink_loss, reached)

    def start(self, at: datetime) -> None:
        """Begins at this moment: clocks run wrong from now on."""
        self.now = at
        for one in self.placed.values():
            one.unit.started = at

    def queue(self, eui: str, port: int, payload: bytes) -> None:
        """Has a unit told something right after it next speaks; one thing at a time, in order."""
        self._queued[eui].append((port, payload))

    def replace(self, eui: str, port: int, payload: bytes | None) -> None:
        """Has a unit told this, or nothing, instead of what waits for it."""
        self._queued[eui].clear()
        if payload is not None:
            self.queue(eui, port, payload)

    def since(self, number: int) -> list[Uplink]:
        """What was heard after the uplink of this number, as far as it is kept."""
        return [one for one in self.uplinks if one.number > number]

    def queued(self, eui: str) -> int:
        """How much waits for a unit."""
        return len(self._queued[eui])

    def send(self, frame: bytes, frequency: int, rate: int) -> datetime:
        """Sends a frame to whoever listens now; returns when the channel is free again. ``NotAllowedError`` before."""
        on_air = self.air_time(frame, rate)
        if self.free_at is not None and self.now < self.free_at:
            raise NotAllowedError(f"the channel is free again at {self.free_at:%H:%M:%S.%f}")
        ends = self.now + timedelta(seconds=on_air)
        self._busy.append((self.now, ends))
        self.free_at = self.now + timedelta(seconds=interval(CHANNELS[self.region], on_air))
        self.sent += 1
        self.on_air += on_air
        for one in self.placed.values():
            if one.unit.listens_to(self.now) is not None and not next(one.lost) and one.reached():
                one.unit.overhear(frame, frequency, rate, ends)
                self._let_answer(one)
        return self.free_at

    def air_time(self, frame: bytes, rate: int) -> float:
        """How long (s) a frame is on the air; ``NotAllowedError`` if it is too long for its data rate."""
        allowed = data_rate(self.region, rate)
        if len(frame) - FRAME_BYTES > allowed.payload:
            raise NotAllowedError(f"{len(frame) - FRAME_BYTES} bytes; {allowed.payload} go at data rate {rate}")
        return time_on_air(allowed, len(frame))

    def _let_answer(self, one: Placed) -> None:
        if one.unit.has_word and one.answers_at is None:
            one.answers_at = self.now + timedelta(seconds=self.rng.uniform(0, one.unit.answers_within))

    def play(self, until: datetime) -> None:
        """Lets units speak and listen, each in its time, until then."""
        while True:
            due, at = None, until
            for one in self.placed.values():
                when = one.next_at
                if when is not None and when <= at:
                    due, at = one, when
            if due is None:
                self.now = max(self.now, until)
                return
            self.now = max(self.now, at)
            if due.listens_at is not None and due.listens_at <= self.now:
                due.listens_at = None
                self._listen(due)
                continue
            if due.regular_at is not None and due.every is not None and due.regular_at <= self.now:
                due.regular_at = self.now + due.every * self.rng.uniform(0.98, 1.02)
            self._speak(due)

    def say(self, eui: str, port: int, payload: bytes) -> bool:
        """Has a unit say something now; tells whether the gateway heard it."""
        return self._speak(self.placed[eui], (port, payload))

    def _speak(self, one: Placed, own: tuple[int, bytes] | None = None) -> bool:
        one.answers_at = None
        told = [*([] if own is None else [own]), *one.unit.speak(self.now)] or [(1, b"\x00")]
        heard, ends = False, self.now
        for at, (port, payload) in enumerate(told):
            on_air = frame_time(UPLINKS, len(payload), crc=True)
            begins = ends + timedelta(seconds=2 if at else 0)
            ends = begins + timedelta(seconds=on_air)
            if not self._clear(begins, ends) or self.rng.random() < one.uplink_loss or not one.reached():
                continue
            heard = heard or at == 0
            self.heard += 1
            loud = round(self.rng.gauss(-104, 4))
            self.uplinks.append(Uplink(self.heard, one.unit.eui, port, payload, ends, UPLINK_RATE[self.region], loud))
        one.listens_at = ends + self.receive_delay
        return heard

    def _listen(self, one: Placed) -> None:
        """Its window opens: what waits for it is sent, if the gateway is not sending something else. What is lost of
        downlinks is said again by who asks."""
        waiting = self._queued[one.unit.eui]
        if waiting and not any(begins <= self.now < ends for begins, ends in self._busy):
            port, payload = waiting.popleft()
            ends = self.now + timedelta(seconds=frame_time(UPLINKS, len(payload)))
            self._busy.append((self.now, ends))
            # Minutes lie between two of them: no burst lasts from one to the next.
            if self.rng.random() >= one.loss and one.reached():
                one.unit.hear(port, payload, ends)
        self._let_answer(one)

    def _clear(self, begins: datetime, ends: datetime) -> bool:
        self._busy = [span for span in self._busy if span[1] > begins - timedelta(minutes=1)]
        heard = all(ends <= start or begins >= end for start, end in self._busy)
        self._busy.append((begins, ends))
        return heard
