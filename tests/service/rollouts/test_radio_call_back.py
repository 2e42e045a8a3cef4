"""Leave to switch that waits for a device on narrow radio is called back by a halt, whatever comes after it."""

from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from mellow_herald.core.order import Order
from mellow_herald.service.radio.hearing import Ears
from mellow_herald.wire.device import Clearance, OrderOut

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
EUI = "70b3d57ed0000101"


class Network:
    """What waits there for the one device."""

    def __init__(self) -> None:
        self.waiting: bytes | None = None
        self.dropped = 0

    async def tell(self, eui: str, port: int, payload: bytes) -> None:
        self.waiting = payload

    async def tell_nothing(self, eui: str) -> None:
        self.waiting, self.dropped = None, self.dropped + 1


async def test_what_waits_is_dropped_and_a_later_word_does_not_bring_it_back(tmp_path: Path) -> None:
    network = Network()
    context: Any = SimpleNamespace(settings=SimpleNamespace(data_dir=tmp_path), clock=SimpleNamespace(now=lambda: NOW))
    nothing: Any = None
    ears = Ears(context, nothing, network, nothing, lambda session: None)  # type: ignore[arg-type]
    device: Any = {"device_id": 7, "eui": EUI, "ports": {}, "root_key": None}
    leave = Clearance(number=4, seconds=600)
    switch = OrderOut(order=Order.SWITCH, attempt=1, clearance=leave, to={"app": "ab" * 32}, next_checkin_s=1)
    ears._orders[7] = switch, NOW
    await ears._tell(device, [], None)
    assert network.waiting is not None
    await ears.call_back(7, EUI)
    assert network.waiting is None
    await ears._tell(device, [], None)
    assert network.waiting is None, "the order of before the halt is not told again"
    # One that was on its way there at the moment of the halt is dropped at the next look, and nothing is asked in vain.
    await ears._send(device, 10, b"late")
    await ears.call_back(7, EUI)
    await ears.call_back(7, EUI)
    assert (network.waiting, network.dropped) == (None, 2)
