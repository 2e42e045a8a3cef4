"""What a simulated device on narrow radio has instead of a connection: the same calls, in messages of a few dozen
bytes through the air. It hears only right after it has spoken, and its image comes to it as a block."""

import asyncio
import hashlib
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime
from typing import Any

from mellow_herald.core.refusal import Refused
from mellow_herald.sim.delivered import Delivered
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.radio.network import RadioNetwork
from mellow_herald.sim.radio.unit import Unit
from mellow_herald.sim.scenario import DeviceSpec, RadioSpec
from mellow_herald.sim.service_time import ServiceTime
from mellow_herald.sim.uplink import NoAnswerError, Uplink
from mellow_herald.wire import compact
from mellow_herald.wire.device import CheckinIn, EnrolmentIn, EnrolmentOut, OrderOut, RadioIn

# A message that the gateway does not acknowledge is sent so often, some seconds apart.
SENDINGS = 4
AGAIN_S = (3.0, 12.0)
# How exactly it keeps its interval.
JITTER = (0.9, 1.1)
# So long after its window a downlink has been heard.
WINDOW_S = 2.0


class Modem:
    """The calls of one device. It enrols by wire, on the bench where it is made (``bench``)."""

    token: str | None = None

    def __init__(
        self, spec: DeviceSpec, network: RadioNetwork, unit: Unit, bench: Uplink, hardware: Hardware, time: ServiceTime
    ) -> None:
        assert spec.radio is not None
        self._spec, self._radio, self._network, self._unit = spec, spec.radio, network, unit
        self._bench, self._hardware, self._time = bench, hardware, time
        self._delivered = Delivered()
        self._order: OrderOut | None = None
        self._began = False
        # Told when an order came outside of a check-in.
        self.wake: Callable[[], None] = lambda: None
        self._sending = asyncio.Lock()
        unit.inbox = self._take

    @property
    def interval_s(self) -> int:
        """How often it speaks (s)."""
        return int(self._radio.every.total_seconds())

    async def enrol(self, asked: EnrolmentIn) -> EnrolmentOut:
        """The first call, by wire: with what the service must know of its radio."""
        radio = radio_facts(self._radio, self._unit)
        return await self._bench.enrol(asked.model_copy(update={"radio": radio}))

    async def checkin(self, checkin: CheckinIn, wait_s: int = 0) -> OrderOut:
        """Says what the device runs, and listens for an order; one that came since the last check-in is taken as it
        is."""
        if not self._began:
            # Sixty that were switched on together do not speak together: two that do are both lost.
            self._began = True
            await self._time.sleep(self._network.rng.uniform(0, self.interval_s))
        if self._order is None:
            await self._send(compact.encode_checkin(checkin, self._heard()))
            await self._time.sleep(self._network.receive_delay_s + WINDOW_S)
        order, self._order = self._order, None
        return order or OrderOut(next_checkin_s=round(self.interval_s * self._network.rng.uniform(*JITTER)))

    async def report(self, reports: list[dict[str, Any]]) -> OrderOut:
        """Sends reports, one after the other."""
        for one in reports:
            await self._send(compact.encode_report(one))
        return OrderOut(next_checkin_s=self.interval_s)

    async def logs(self, lines: list[dict[str, Any]]) -> None:
        """There is no room for log lines on the air."""

    async def keys(self) -> bytes:
        """The key list that it has: no other comes to it by radio."""
        kept: bytes = self._hardware.data["key_list"]
        return kept

    async def manifest(self, digest: str) -> bytes:
        """The signed envelope without payloads, out of the block that came."""
        return self._block().manifest(digest)

    def image(self, uri: str, have: int) -> AsyncIterator[bytes]:
        """The bytes of an image from offset ``have`` on, out of the block that came."""
        return self._block().image(uri, have)

    def _block(self) -> Delivered:
        self._delivered.file = self._unit.blocks[-1] if self._unit.blocks else b""
        return self._delivered

    def _heard(self) -> compact.Heard | None:
        one = self._unit.reception
        if one is None or not one.newest:
            return None
        return compact.Heard(one.newest, one.newest - one.received, one.bursts, one.decoder.recovered)

    async def _send(self, payload: bytes) -> None:
        async with self._sending:
            for sending in range(SENDINGS):
                if sending:
                    await self._time.sleep(self._network.rng.uniform(*AGAIN_S))
                await self._time.sleep(self._network.time_on_air(len(payload)))
                if self._network.say(self._unit.eui, compact.PORT, payload):
                    return
        # It does not try harder than that: the next time it speaks is its next time.
        raise NoAnswerError(self.interval_s / self._time.scale)

    def _take(self, port: int, payload: bytes, at: datetime) -> None:
        if port != compact.PORT:
            return
        clock = self._unit.clock(at)
        try:
            self._order = compact.read_order(payload, clock, self.interval_s)
        except Refused:
            return
        self.wake()


def make_unit(spec: DeviceSpec, radio: RadioSpec, seed: int) -> Unit:
    """The radio of a device: its EUI and root key follow from its serial, as those of another seed do from theirs."""
    drawn = hashlib.sha256(f"{seed}/{spec.serial}/radio".encode()).digest()
    return Unit(
        eui=drawn[:8].hex(),
        root=drawn[8:24],
        started=datetime(2000, 1, 1, tzinfo=UTC),
        offset=radio.clock_off_s,
        drift=radio.drift_ppm * 1e-6,
        most_missing=radio.most_missing,
        listens=radio.listens,
    )


def radio_facts(radio: RadioSpec, unit: Unit) -> RadioIn:
    """What a device says of its radio when it is made."""
    on_record = bytes(reversed(unit.root)) if radio.wrong_key else unit.root
    return RadioIn(
        eui=unit.eui,
        region=radio.region,
        device_class="C",
        lorawan="1.0",
        interval_s=int(radio.every.total_seconds()),
        most_fragment=radio.most_fragment,
        root_key=on_record.hex() if radio.key_on_record else None,
    )
