"""What a simulated device sends when it is asked for a recording: the same file whatever breaks off."""

import asyncio
import gzip
import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from typing import Any

import pytest

from mellow_herald.core.readings.recording import fits
from mellow_herald.core.readings.recording_file import read_moments
from mellow_herald.sim import recording
from mellow_herald.sim.recording import Recorder
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, RefusedCallError
from mellow_herald.wire.device import RecordOut

NOON = datetime(2026, 5, 2, 12, tzinfo=UTC)


class Ticking(ServiceTime):
    """Of a hand that tests move."""

    def __init__(self) -> None:
        super().__init__(lambda: 0.0)
        self.at = NOON

    def now(self) -> datetime:
        return self.at


class Line:
    """The service's end, which hears what it is let hear: ``fails`` says before which call it breaks off."""

    def __init__(self, fails: Callable[[int], bool] = lambda _: False) -> None:
        self.said: dict[str, Any] = {}
        self.body, self.calls, self.fails = b"", 0, fails
        self.over = False

    def _call(self) -> None:
        self.calls += 1
        if self.over:
            raise RefusedCallError(409, "recording-over", "")
        if self.fails(self.calls):
            raise NoAnswerError

    async def announce_recording(self, number: int, said: dict[str, Any]) -> int:
        self._call()
        if self.body and len(self.body) == self.said["size"]:
            raise RefusedCallError(409, "recording-over", "it is complete")
        if said.get("sha256") != self.said.get("sha256"):
            self.body = b""
        self.said = said
        return len(self.body)

    async def recording_part(self, number: int, at: int, part: bytes, total: int) -> tuple[int, bool]:
        new = fits(len(self.body), at, len(part))
        if new is not None:
            self.body += part[new[0] : new[1]]
        self._call()  # heard, but its answer may be lost
        return len(self.body), len(self.body) == total


@pytest.fixture
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(recording, "AGAIN_S", 0.0)
    monkeypatch.setattr(recording, "PART_BYTES", 500)


def measure(name: str, at: datetime) -> float | None:
    return None if name == "gone" else round(at.timestamp() % 97 / 7, 3)


async def send(line: Line, time: Ticking, asked: RecordOut, behind: timedelta = timedelta()) -> Recorder:
    made = Recorder(line, time, lambda: ["weight", "gone"], measure, behind)  # type: ignore[arg-type]
    made.obey(None)  # its first call: from now on it keeps
    time.at += timedelta(hours=1)
    made.obey(asked)
    running = asyncio.create_task(made.run())
    async with asyncio.timeout(30):
        while made.number:
            await asyncio.sleep(0)
    running.cancel()
    return made


def ask(begins: datetime, ends: datetime, *signals: str) -> RecordOut:
    return RecordOut(
        number=3, begins=begins.timestamp(), ends=ends.timestamp(), signals=list(signals), at_most=10_000_000
    )


@pytest.mark.parametrize("every", [0, 2, 3])
async def test_it_arrives_whole_whatever_breaks_off(quick: None, every: int) -> None:
    line = Line((lambda call: call % every == 1) if every else (lambda _: False))
    await send(line, Ticking(), ask(NOON + timedelta(minutes=5), NOON + timedelta(minutes=15, seconds=0.5)))
    assert sha256(line.body).hexdigest() == line.said["sha256"] and len(line.body) == line.said["size"]
    moments = list(read_moments([line.body]))
    assert len(moments) == 601 == line.said["samples"]
    begins = NOON + timedelta(minutes=5)
    assert moments[0] == (begins.timestamp(), {"weight": measure("weight", begins)})
    times = [at for at, _ in moments]
    assert times == sorted(set(times))


async def test_a_restart_in_the_middle_goes_on_by_itself(quick: None, monkeypatch: pytest.MonkeyPatch) -> None:
    """It says that it is about the recording, so nobody tells it again."""
    monkeypatch.setattr(recording, "PART_BYTES", 100)
    time = Ticking()
    line = Line(lambda call: call > 3)
    made = Recorder(line, time, lambda: ["weight"], measure)  # type: ignore[arg-type]
    made.obey(None)
    time.at += timedelta(hours=1)
    made.obey(ask(NOON, NOON + timedelta(minutes=10)))
    first = asyncio.create_task(made.run())
    async with asyncio.timeout(30):
        while line.calls < 5:
            await asyncio.sleep(0)
    first.cancel()
    assert made.number == 3 and 0 < len(line.body) < line.said["size"]
    line.fails = lambda _: False
    second = asyncio.create_task(made.run())
    async with asyncio.timeout(30):
        while made.number:
            await asyncio.sleep(0)
    second.cancel()
    assert len(line.body) == line.said["size"]


async def test_only_what_it_has_kept(quick: None) -> None:
    line = Line()
    await send(line, Ticking(), ask(NOON - timedelta(hours=1), NOON + timedelta(minutes=1)))
    assert line.said["samples"] == 61, "from its first call on"
    for asked in (ask(NOON - timedelta(hours=2), NOON - timedelta(hours=1)), ask(NOON, NOON + timedelta(hours=1), "x")):
        line = Line()
        await send(line, Ticking(), asked)
        assert line.said["reason"] == "nothing-kept" and not line.body


async def test_its_times_are_those_of_its_clock(quick: None) -> None:
    line, behind = Line(), timedelta(hours=3)
    await send(line, Ticking(), ask(NOON - behind, NOON + timedelta(minutes=1) - behind), behind)
    first = json.loads(gzip.decompress(line.body).splitlines()[0])
    assert first["at"] == (NOON - behind).timestamp()


async def test_what_is_wanted_no_more_is_let_go(quick: None) -> None:
    line = Line()
    line.over = True
    made = await send(line, Ticking(), ask(NOON, NOON + timedelta(minutes=1)))
    assert made.number == 0 and line.calls == 1
