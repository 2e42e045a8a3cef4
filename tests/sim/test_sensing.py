"""What a simulated device measures and sends of what it is asked for."""

import asyncio
import gzip
import json
from datetime import timedelta
from typing import Any

import pytest

from mellow_herald.sim import sensing
from mellow_herald.sim.hardware import Layout, PartLayout, make_in_memory
from mellow_herald.sim.scenario import DeviceSpec
from mellow_herald.sim.sensing import Sensing
from mellow_herald.wire.device import ListenOut
from tests.harness.firmware import BOARD, LINE, make_bytes
from tests.harness.patience import PATIENCE_S
from tests.sim.test_recording import NOON, Ticking

SPEC = DeviceSpec.model_validate({"serial": "TA-1", "board": BOARD, "line": LINE, "images": {}})
LISTEN = {"number": 7, "signals": [{"name": "weight", "period_s": 10.0, "seconds": 86_400}]}


class Line:
    """The service's end."""

    def __init__(self, refuses: int = 0) -> None:
        self.times: list[float] = []
        self.refuses, self.cost = refuses, dict[str, float]()

    async def readings(self, body: bytes, *, packed: bool) -> int:
        said = json.loads(gzip.decompress(body) if packed else body)
        self.cost = said["cost"]
        came = [block["at"] + after / 1000 for block in said["blocks"] for after in block["after_ms"]]
        self.times += came
        refused, self.refuses = min(self.refuses, len(came)), 0
        return len(came) - refused


async def test_it_measures_on_where_its_clock_is_set_back(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sensing, "GATHER_S", 0.001)
    monkeypatch.setattr(sensing, "LEAST_GATHER_S", 0.0)
    line, ticking = Line(), Ticking()
    uplink: Any = line
    hardware = make_in_memory(Layout({"app": PartLayout(16 * 1024)}), {"app": make_bytes(size=4000)})
    device = Sensing(SPEC, hardware, uplink, ticking)
    device.obey(ListenOut.model_validate(LISTEN))
    running = asyncio.create_task(device.run())

    async def sent(since: float) -> list[float]:
        async with asyncio.timeout(PATIENCE_S):
            while not (after := [at for at in line.times if at > since]):
                assert not running.done()
                await asyncio.sleep(0.001)
        return after

    ticking.at = NOON + timedelta(hours=1)
    await sent(NOON.timestamp() + 3500)
    line.times.clear()
    ticking.at = NOON - timedelta(hours=1)
    await asyncio.sleep(0.01)
    ticking.at += timedelta(seconds=30)
    assert max(await sent(0)) <= ticking.at.timestamp(), "it does not wait for an hour that it has had"
    running.cancel()


async def test_what_was_not_taken_does_not_count_as_sent(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sensing, "GATHER_S", 0.001)
    monkeypatch.setattr(sensing, "LEAST_GATHER_S", 0.0)
    line, ticking = Line(refuses=1), Ticking()
    uplink: Any = line
    hardware = make_in_memory(Layout({"app": PartLayout(16 * 1024)}), {"app": make_bytes(size=4000)})
    device = Sensing(SPEC, hardware, uplink, ticking)
    device.obey(ListenOut.model_validate(LISTEN))
    running = asyncio.create_task(device.run())
    async with asyncio.timeout(PATIENCE_S):
        for _ in range(3):
            came, ticking.at = len(line.times), ticking.at + timedelta(minutes=1)
            while len(line.times) == came:
                assert not running.done()
                await asyncio.sleep(0.001)
    running.cancel()
    before = len([at for at in line.times if at <= (ticking.at - timedelta(minutes=1)).timestamp()])
    assert (line.cost["sent"], line.cost["dropped"]) == (before - 1, 1)
