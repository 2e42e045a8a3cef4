"""The stand-in's interface: what a network answers, and what it refuses."""

import asyncio
from collections.abc import AsyncIterator
from datetime import UTC, datetime, timedelta
from itertools import pairwise

import httpx
import pytest

from mellow_herald.core.radio.air import Region
from mellow_herald.core.radio.loss import Loss
from mellow_herald.service.radio.network import Network, NetworkAwayError, NetworkRefusedError
from mellow_herald.sim.radio.network import MOST_WAITING, RadioNetwork
from mellow_herald.sim.radio.serving import serve_network
from mellow_herald.sim.radio.unit import Unit
from mellow_herald.sim.service_time import ServiceTime

NOON = datetime(2026, 11, 23, 12, tzinfo=UTC)
FREQUENCY = 869_525_000


class Yard:
    """A network with one unit, in a time that stands where it is put."""

    def __init__(self) -> None:
        self.seconds = 0.0
        time = ServiceTime(lambda: self.seconds)
        time.learn({"herald-time": NOON.isoformat()})
        self.network = RadioNetwork(Region.EU868, time)
        self.unit = Unit("70b3d57ed0000101", bytes(16), NOON)
        self.network.place(self.unit, Loss(0), 0.0, lambda: True)
        self.heard: list[tuple[int, bytes]] = []
        self.unit.inbox = lambda port, payload, at: self.heard.append((port, payload))
        self.url = ""


@pytest.fixture
async def yard() -> AsyncIterator[Yard]:
    made = Yard()
    running = asyncio.create_task(made.network.run())
    with serve_network(made.network, "127.0.0.1", 0, "a token") as port:
        made.url = f"http://127.0.0.1:{port}"
        await asyncio.sleep(0.05)
        yield made
    running.cancel()


async def test_what_is_said_is_told_once_and_in_order_and_a_word_waits_for_the_window(yard: Yard) -> None:
    async with Network(yard.url, "a token") as network:
        facts = await network.show()
        assert facts.region == "EU868"
        waiting = asyncio.create_task(network.uplinks(facts.run, 0))
        await asyncio.sleep(0.1)
        assert not waiting.done(), "it is held open until there is something"
        await network.tell(yard.unit.eui, 10, b"one")
        await network.tell(yard.unit.eui, 10, b"two")
        yard.network.say(yard.unit.eui, 10, b"\x01\x02")
        run, uplinks = await waiting
        first = uplinks[0]
        assert (first.eui, first.port, first.payload) == (yard.unit.eui, 10, b"\x01\x02")
        assert yard.heard == [], "its window opens some seconds after it has spoken"
        yard.seconds += 30
        await asyncio.sleep(0.1)
        assert yard.heard == [(10, b"two")], "the newest word instead of the one before"
        # A number of another run is none of this one's: it begins with the first.
        again, everything = await network.uplinks("another run", 999)
        assert again == run and everything[0].number == 1


async def test_frames_go_out_at_the_channels_pace_and_can_be_withdrawn(yard: Yard) -> None:
    async with Network(yard.url, "a token") as network:
        begins = [await network.send([bytes(60)], FREQUENCY, 4) for _ in range(MOST_WAITING)]
        gaps = {(later - sooner).total_seconds() for sooner, later in pairwise(begins)}
        assert len(gaps) <= 2 and 1.8 < min(gaps) < max(gaps) + 0.001 < 2.2, "a tenth of the time, at data rate 4"
        assert begins[0] == NOON
        await network.send([bytes(60)], FREQUENCY, 4)  # the first is out already
        with pytest.raises(NetworkRefusedError, match="frames wait already") as refused:
            await network.send([bytes(60)], FREQUENCY, 4)
        assert refused.value.kind == "full"
        with pytest.raises(NetworkRefusedError, match="nothing to send"):
            await network.send([], FREQUENCY, 4)
        assert yard.network.sent == 1
        assert await network.withdraw() == MOST_WAITING
        yard.seconds += 60
        await asyncio.sleep(0.05)
        assert yard.network.sent == 1, "what was withdrawn never goes out"


async def test_what_is_wrong_is_refused_with_a_kind_and_words(yard: Yard) -> None:
    async with Network(yard.url, "a token") as network:
        with pytest.raises(NetworkRefusedError, match="No device ffff is in this network"):
            await network.tell("ffff", 10, b"x")
        for frame, frequency, rate, words in (
            (bytes(300), FREQUENCY, 4, "222 go at data rate 4"),
            (bytes(60), FREQUENCY, 9, "there is no downlink data rate 9"),
            (bytes(60), 915_000_000, 4, "is not of EU868"),
            (bytes(5), FREQUENCY, 4, "are no frame"),
        ):
            with pytest.raises(NetworkRefusedError, match=words):
                await network.send([frame], frequency, rate)
    async with Network(yard.url, "another token") as network:
        with pytest.raises(NetworkRefusedError, match="token is missing or wrong"):
            await network.show()
    headers = {"authorization": "Bearer a token"}
    async with httpx.AsyncClient(base_url=f"{yard.url}/radio/v1", headers=headers) as http:
        for answer, status in (
            (await http.get("/nothing"), 404),
            (await http.post("/transmissions", json={"payloads": ["zz"]}), 422),
            (await http.post("/transmissions", content=b"[1]"), 422),
            (await http.post("/transmissions", content=b"x" * 17_000), 413),
            (await http.put("/downlinks/70b3d57ed0000101", json={"port": 10, "payload": "00" * 300}), 422),
        ):
            assert answer.status_code == status and answer.headers["content-type"] == "application/problem+json"
            assert answer.json()["detail"]


async def test_a_network_that_is_away_is_told_so() -> None:
    async with Network("http://127.0.0.1:9") as network:
        with pytest.raises(NetworkAwayError, match="does not answer"):
            await network.show()


def test_a_gateway_that_is_down_hears_nobody_and_sends_nothing() -> None:
    yard = Yard()
    up = True
    network = RadioNetwork(Region.EU868, yard.network._time, runs=lambda: up)
    unit = Unit("70b3d57ed0000102", bytes(16), NOON)
    network.place(unit, Loss(0), 0.0, lambda: True)
    network._ether.start(NOON)
    assert network.say(unit.eui, 10, b"x")
    up = False
    assert not network.say(unit.eui, 10, b"x")
    network.put_frames([bytes(60)], FREQUENCY, 4, None)
    yard.seconds += 10
    network._advance()
    assert network.sent == 0
    assert timedelta(seconds=network.time_on_air(20)) < timedelta(seconds=0.1)
