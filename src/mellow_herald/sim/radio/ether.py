"""The air between units and the network: who hears what, when, and what is lost on the way.

The gateway is half duplex: while it sends it hears nothing, and two that speak at once are both lost.
"""

import random
from collections import defaultdict, deque
from collections.abc import Iterator
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


@dataclass(frozen=True, slots=True)
class Uplink:
    """What a unit said: numbered in the order in which it was heard."""

    number: int
    eui: str
    port: int
    payload: bytes
    at: datetime


class NotAllowedError(ValueError):
    """What was to be sent may not be: it is too long for its data rate, or too soon for the channel."""


@dataclass(slots=True)
class Placed:
    """A unit in the field: how often and when it speaks by itself, what it loses, and when it answers (None: it has
    nothing to)."""

    unit: Unit
    every: timedelta
    regular_at: datetime
    lost: Iterator[bool]
    answers_at: datetime | None = None

    @property
    def next_at(self) -> datetime:
        """When it speaks next."""
        return self.regular_at if self.answers_at is None else min(self.regular_at, self.answers_at)


@dataclass(slots=True)
class Ether:
    """One network with its gateway. Uplinks of units are lost like what is sent to groups, but for themselves."""

    region: Region
    now: datetime
    rng: random.Random
    uplinks: list[Uplink] = field(default_factory=list)
    placed: dict[str, Placed] = field(default_factory=dict)
    free_at: datetime | None = None
    sent: int = 0
    on_air: float = 0.0
    _busy: list[tuple[datetime, datetime]] = field(default_factory=list)
    _queued: dict[str, deque[tuple[int, bytes]]] = field(default_factory=lambda: defaultdict(deque))

    def place(self, unit: Unit, every: timedelta, loss: Loss) -> None:
        """Puts a unit into the field; when it speaks first is drawn."""
        first = self.now + every * self.rng.random()
        pattern = loss.pattern(random.Random(self.rng.random()))
        self.placed[unit.eui] = Placed(unit, every, first, pattern)

    def queue(self, eui: str, port: int, payload: bytes) -> None:
        """Has a unit told something right after it next speaks; one thing at a time, in order."""
        self._queued[eui].append((port, payload))

    def queued(self, eui: str) -> int:
        """How much waits for a unit."""
        return len(self._queued[eui])

    def send(self, frame: bytes, frequency: int, rate: int) -> datetime:
        """Sends a frame to whoever listens now; returns when the channel is free again. ``NotAllowedError`` before."""
        allowed = data_rate(self.region, rate)
        if len(frame) - FRAME_BYTES > allowed.payload:
            raise NotAllowedError(f"{len(frame) - FRAME_BYTES} bytes; {allowed.payload} go at data rate {rate}")
        if self.free_at is not None and self.now < self.free_at:
            raise NotAllowedError(f"the channel is free again at {self.free_at:%H:%M:%S.%f}")
        on_air = time_on_air(allowed, len(frame))
        ends = self.now + timedelta(seconds=on_air)
        self._busy.append((self.now, ends))
        self.free_at = self.now + timedelta(seconds=interval(CHANNELS[self.region], on_air))
        self.sent += 1
        self.on_air += on_air
        for one in self.placed.values():
            if one.unit.listens_to(self.now) is not None and not next(one.lost):
                one.unit.overhear(frame, frequency, rate, ends)
                self._let_answer(one)
        return self.free_at

    def _let_answer(self, one: Placed) -> None:
        if one.unit.has_word and one.answers_at is None:
            one.answers_at = self.now + timedelta(seconds=self.rng.uniform(0, one.unit.answers_within))

    def play(self, until: datetime) -> None:
        """Lets units speak, each in its time, until then."""
        while True:
            due = min(self.placed.values(), key=lambda one: one.next_at, default=None)
            if due is None or due.next_at > until:
                self.now = max(self.now, until)
                return
            self.now = max(self.now, due.next_at)
            if due.regular_at <= self.now:
                due.regular_at = self.now + due.every * self.rng.uniform(0.98, 1.02)
            due.answers_at = None
            self._speak(due)
            self._let_answer(due)

    def _speak(self, one: Placed) -> None:
        said = [*one.unit.speak(self.now)] or [(1, b"\x00")]
        for at, (port, payload) in enumerate(said):
            on_air = frame_time(UPLINKS, len(payload), crc=True)
            begins = self.now + timedelta(seconds=at * (on_air + 2))
            ends = begins + timedelta(seconds=on_air)
            if not self._clear(begins, ends):
                continue
            self.uplinks.append(Uplink(len(self.uplinks) + 1, one.unit.eui, port, payload, ends))
        waiting = self._queued[one.unit.eui]
        # Its window opens a second after it has spoken; what is lost of downlinks is said again by who asks.
        if waiting and not next(one.lost):
            port, payload = waiting.popleft()
            one.unit.hear(port, payload, self.now + timedelta(seconds=1))
        elif waiting:
            waiting.popleft()

    def _clear(self, begins: datetime, ends: datetime) -> bool:
        self._busy = [span for span in self._busy if span[1] > begins - timedelta(minutes=1)]
        heard = all(ends <= start or begins >= end for start, end in self._busy)
        self._busy.append((begins, ends))
        return heard
