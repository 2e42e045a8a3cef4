"""The stand-in for a radio network: the air of one yard in service time, and what is waiting to be sent there."""

import asyncio
import random
import secrets
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from mellow_herald.core.radio.air import BANDS, CHANNELS, FRAME_BYTES, Region, data_rate, frame_time, interval
from mellow_herald.core.radio.loss import Loss
from mellow_herald.sim.radio.ether import UPLINKS, Ether, NotAllowedError, Uplink
from mellow_herald.sim.radio.unit import Unit
from mellow_herald.sim.service_time import ServiceTime

TICK_S = 0.005
# So many frames wait at most: who sends knows when each goes out, and a halt is to find few of them waiting.
MOST_WAITING = 24
LONGEST_WAIT_S = 30.0


class RefusedBySenderError(Exception):
    """What was asked for cannot be done: ``status`` as HTTP has it, ``kind`` and words."""

    def __init__(self, status: int, kind: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.kind, self.detail = status, kind, detail


@dataclass(frozen=True, slots=True)
class Frame:
    """A frame for a group that is waiting to be sent."""

    number: int
    payload: bytes
    frequency: int
    data_rate: int
    not_before: datetime


class RadioNetwork:
    """One network. ``runs`` tells whether its gateway is up: while it is not, nobody is heard and nothing is sent."""

    # As networks have it that do not answer on the spot; fifteen is the most that devices can be set to.
    receive_delay_s = 12.0

    def __init__(
        self, region: Region, time: ServiceTime, seed: int = 1, runs: Callable[[], bool] = lambda: True
    ) -> None:
        self.region = region
        self.rng = random.Random(f"{seed}/radio")
        self._time, self._runs = time, runs
        delay = timedelta(seconds=self.receive_delay_s)
        self._ether = Ether(region, datetime(2000, 1, 1, tzinfo=UTC), self.rng, delay)
        self._frames: deque[Frame] = deque()
        self._numbered = 0
        # Numbers of uplinks begin anew with each run.
        self.run_name = secrets.token_hex(8)
        self._new = asyncio.Event()

    @property
    def now(self) -> datetime | None:
        """The network's time, which is the service's; None as long as that is not known."""
        return self._time.now()

    @property
    def sent(self) -> int:
        """How many frames went out to groups."""
        return self._ether.sent

    def place(self, unit: Unit, loss: Loss, uplink_loss: float, reached: Callable[[], bool]) -> None:
        """Puts a unit into the field."""
        self._ether.place(unit, None, loss, uplink_loss, reached)

    async def run(self) -> None:
        """Plays the air until cancelled."""
        started = False
        while True:
            await asyncio.sleep(TICK_S)
            now = self.now
            if now is None:  # until the service has told the time
                continue
            if not started:
                self._ether.start(now)
                started = True
            self._advance()

    def time_on_air(self, size: int) -> float:
        """How long (s) a unit's message of so many bytes is on the air."""
        return frame_time(UPLINKS, size, crc=True)

    def say(self, eui: str, port: int, payload: bytes) -> bool:
        """Has a unit say something now; tells whether it was heard."""
        self._advance()
        heard = self._ether.say(eui, port, payload) and self._runs()
        self._tell()
        return heard

    async def uplinks_after(self, number: int, wait_s: float) -> list[Uplink]:
        """What was heard after the uplink of this number; waits (real seconds) until there is something."""
        deadline = asyncio.get_running_loop().time() + min(wait_s, LONGEST_WAIT_S)
        while True:
            self._new.clear()
            heard = self._ether.since(number)
            left = deadline - asyncio.get_running_loop().time()
            if heard or left <= 0:
                return heard
            try:
                async with asyncio.timeout(left):
                    await self._new.wait()
            except TimeoutError:
                pass

    def put_downlink(self, eui: str, port: int, payload: bytes) -> None:
        """Has a unit told this after it next speaks, instead of what waits for it; nothing, if that is empty."""
        if eui not in self._ether.placed:
            raise RefusedBySenderError(404, "unknown-device", f"No device {eui} is in this network.")
        if len(payload) > UPLINKS.payload:
            raise RefusedBySenderError(422, "too-long", f"{len(payload)} bytes; {UPLINKS.payload} go at most.")
        self._advance()
        self._ether.replace(eui, port, payload or None)

    def put_frames(
        self, payloads: Sequence[bytes], frequency: int, rate: int, not_before: datetime | None
    ) -> list[Frame]:
        """Has frames sent to whoever listens, after those that wait already; returns them with when each will go out.
        All of them are taken, or none."""
        self._advance()
        for payload in payloads:
            self._check(payload, frequency, rate)
        if not payloads:
            raise RefusedBySenderError(422, "too-short", "There is nothing to send.")
        if len(self._frames) + len(payloads) > MOST_WAITING:
            detail = f"{len(self._frames)} frames wait already, {MOST_WAITING} at most; send more when they are out."
            raise RefusedBySenderError(409, "full", detail)
        now = self.now or self._ether.now
        begins = max(now, self._ether.free_at or now)
        for one in self._frames:
            begins = max(begins, one.not_before) + self._apart(one)
        begins = max(begins, not_before or begins)
        added = []
        for payload in payloads:
            self._numbered += 1
            frame = Frame(self._numbered, payload, frequency, rate, begins)
            begins += self._apart(frame)
            added.append(frame)
        self._frames += added
        self._advance()
        return added

    def _check(self, payload: bytes, frequency: int, rate: int) -> None:
        low, high = BANDS[self.region]
        if not low <= frequency <= high:
            detail = f"{frequency} Hz is not of {self.region}: {low} to {high}."
            raise RefusedBySenderError(422, "bad-frequency", detail)
        if len(payload) <= FRAME_BYTES:
            raise RefusedBySenderError(422, "too-short", f"{len(payload)} bytes are no frame.")
        try:
            data_rate(self.region, rate)
            self._ether.air_time(payload, rate)
        except (NotAllowedError, ValueError) as error:
            raise RefusedBySenderError(422, "not-allowed", str(error)) from None

    def withdraw(self) -> int:
        """Drops all frames that have not gone out; returns how many."""
        self._advance()
        count = len(self._frames)
        self._frames.clear()
        return count

    def _apart(self, frame: Frame) -> timedelta:
        on_air = self._ether.air_time(frame.payload, frame.data_rate)
        return timedelta(seconds=interval(CHANNELS[self.region], on_air))

    def _advance(self) -> None:
        """Plays what has happened until now: frames go out at their very moment, however late that is looked at."""
        now = self.now
        if now is None:
            return
        while self._frames:
            at = max(self._ether.now, self._ether.free_at or self._ether.now, self._frames[0].not_before)
            if at > now:
                break
            self._ether.play(at)
            frame = self._frames.popleft()
            if self._runs():
                self._ether.send(frame.payload, frame.frequency, frame.data_rate)
        self._ether.play(now)
        self._tell()

    def _tell(self) -> None:
        self._new.set()
