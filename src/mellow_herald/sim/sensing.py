"""What a simulated device measures, and sends of it when it is asked to."""

import asyncio
import gzip
import json
import math
import random
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import partial
from typing import Any

from mellow_herald.sim.condition import charge_of
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.recording import Recorder
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, RefusedCallError, Uplink
from mellow_herald.wire.device import ListenOut, RecordOut

GATHER_S = 60.0
LEAST_GATHER_S = 2.0  # of real time, where time is sped up: no eye sees more
MOST_KEPT, MOST_A_CALL, PACKED_FROM = 50_000, 5000, 1000
DAY_S = 86_400.0
NIGHT = (21, 5)
FORAGE_KG_A_DAY, NIGHT_DRIFT_KG = 0.25, 0.08
# What collecting takes of the processor, for each value a second.
PROCESSOR_SHARE = 0.002


@dataclass(frozen=True, slots=True)
class Surroundings:
    """Where a value is measured: the device, the time, and a number of its own between 0 and 1 that stays."""

    spec: DeviceSpec
    hardware: Hardware
    at: datetime
    own: float
    noise: Callable[[float], float]

    @property
    def hour(self) -> float:
        """The hour of the day (0–24, UTC)."""
        return self.at.hour + self.at.minute / 60 + self.at.second / 3600


def _battery(here: Surroundings) -> float | None:
    charge = charge_of(here.spec, here.hardware, here.at)
    return None if charge is None else round(charge + here.noise(0.02), 2)


def _temperature(here: Surroundings) -> float:
    return round(14 + 4 * here.own + 7 * math.sin(2 * math.pi * (here.hour - 9) / 24) + here.noise(0.15), 2)


def _humidity(here: Surroundings) -> float:
    return round(62 - 14 * math.sin(2 * math.pi * (here.hour - 9) / 24) + 6 * here.own + here.noise(0.8), 1)


def _weight(here: Surroundings) -> float:
    """The bees bring in by day and eat by night; a load cell that cools down drifts."""
    return round(weight_at(here.own, here.at) + here.noise(0.01), 3)


def weight_at(own: float, at: datetime) -> float:
    """The weight (kg) of a scale with this number of its own, but for the noise."""
    hour, days = at.hour + at.minute / 60 + at.second / 3600, at.timestamp() / DAY_S
    by_day = max(0.0, math.sin(2 * math.pi * (hour - 8) / 24))
    night = NIGHT_DRIFT_KG if hour >= NIGHT[0] or hour < NIGHT[1] else 0.0
    base = 28 + 12 * own + FORAGE_KG_A_DAY * (days % 40) * own
    return base + 0.4 * by_day - night * own


def _activity(here: Surroundings) -> str:
    return "resting" if here.hour >= NIGHT[0] or here.hour < NIGHT[1] else "foraging"


MEASURED: dict[str, Callable[[Surroundings], float | str | None]] = {
    "battery": _battery,
    "temperature": _temperature,
    "humidity": _humidity,
    "weight": _weight,
    "activity": _activity,
}


def own_number(serial: str, name: str) -> float:
    """The number between 0 and 1 that a signal of a device has for good: what sets it apart from the others."""
    return random.Random(f"{serial}/{name}").random()


@dataclass(slots=True)
class _Asked:
    """A signal that is asked for: its period (s), until when (service time), and when it is measured next."""

    period_s: float
    until: datetime
    next_at: datetime


@dataclass(slots=True)
class Sensing:
    """Of one device. ``uplink`` is None where its link has no room for readings."""

    spec: DeviceSpec
    hardware: Hardware
    uplink: Uplink | None
    time: ServiceTime
    number: int = 0
    _asked: dict[str, _Asked] = field(default_factory=dict)
    _kept: list[tuple[datetime, str, Any]] = field(default_factory=list)
    _sent: int = 0
    _dropped: int = 0
    _recorder: Recorder = field(init=False)

    def __post_init__(self) -> None:
        behind = self.spec.clock_behind
        self._recorder = Recorder(self.uplink, self.time, lambda: list(MEASURED), self._value, behind)

    @property
    def recording(self) -> int:
        """The number of the recording that it is about to send, or sends."""
        return self._recorder.number

    def obey(self, listen: ListenOut | None, record: RecordOut | None = None) -> None:
        """Takes what it is asked for, if it was told anything."""
        self._recorder.obey(record)
        now = self.time.now()
        if listen is None or now is None:
            return
        self.number = listen.number
        before = self._asked
        self._asked = {}
        for one in listen.signals:
            known = before.get(one.name)
            next_at = known.next_at if known is not None and known.period_s == one.period_s else now
            self._asked[one.name] = _Asked(one.period_s, now + timedelta(seconds=one.seconds), next_at)

    async def run(self) -> None:
        """Measures and sends until cancelled."""
        async with asyncio.TaskGroup() as group:
            group.create_task(self._recorder.run())
            group.create_task(self._listen())

    async def _listen(self) -> None:
        while True:
            await self.time.sleep(max(GATHER_S, LEAST_GATHER_S * self.time.scale))
            if self.uplink is None or not (self._asked or self._kept):
                continue
            self._measure()
            while self._kept and await self._send(self.uplink):
                pass

    def _measure(self) -> None:
        now = self.time.now()
        if now is None:
            return
        for name, asked in list(self._asked.items()):
            # Its clock may have been set back, as where the service came back from a backup: it measures on.
            asked.next_at = min(asked.next_at, now + timedelta(seconds=asked.period_s))
            while asked.next_at <= min(now, asked.until):
                at = asked.next_at
                asked.next_at = at + timedelta(seconds=asked.period_s)
                value = self._value(name, at)
                if value is not None:
                    self._kept.append((at, name, value))
            if asked.until < now:
                del self._asked[name]
        beyond = len(self._kept) - MOST_KEPT
        if beyond > 0:
            self._dropped += beyond
            del self._kept[:beyond]

    def _value(self, name: str, at: datetime) -> float | str | None:
        """What is measured at a moment: the same, whenever it is asked for."""
        measure = MEASURED.get(name)
        own = own_number(self.spec.serial, name)
        noise = random.Random(f"{self.spec.serial}/{name}/{at.timestamp():.3f}").gauss
        here = Surroundings(self.spec, self.hardware, at, own, partial(noise, 0.0))
        return None if measure is None else measure(here)

    async def _send(self, uplink: Uplink) -> bool:
        """Sends a call's worth; tells whether to go on with the next."""
        portion = sorted(self._kept[:MOST_A_CALL], key=lambda one: one[0])
        times = sorted({at for at, _, _ in portion})
        place = {at: index for index, at in enumerate(times)}
        values: dict[str, list[Any]] = {}
        for at, name, value in portion:
            values.setdefault(name, [None] * len(times))[place[at]] = value
        behind = self.spec.clock_behind
        first = times[0] - behind
        block = {
            "at": first.timestamp(),
            "after_ms": [round((at - times[0]).total_seconds() * 1000) for at in times],
            "values": values,
        }
        now = self.time.now()
        rate = sum(1 / asked.period_s for asked in self._asked.values())
        said: dict[str, Any] = {
            "blocks": [block],
            "cost": {
                "processor": round(PROCESSOR_SHARE * rate, 5),
                "kept": len(self._kept),
                "sent": self._sent,
                "dropped": self._dropped,
            },
        }
        if now is not None:
            said["sent_at"] = (now - behind).timestamp()
        body = json.dumps(said).encode()
        packed = len(body) >= PACKED_FROM
        try:
            taken = await uplink.readings(gzip.compress(body) if packed else body, packed=packed)
        except NoAnswerError:
            return False
        except RefusedCallError:
            self._dropped += len(portion)
        else:
            # What was not taken is too old, or ahead of a service that stood still: it is not there.
            self._sent += taken
            self._dropped += len(portion) - taken
        del self._kept[: len(portion)]
        return True
