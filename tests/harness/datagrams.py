"""A bad network between a device and the service: datagrams are lost, come twice, and can be sent again by others."""

import asyncio
from collections.abc import Callable
from typing import Any

Address = tuple[str, int]


class Relay:
    """What is sent to ``port`` goes on to the service, from an address of the relay's own, and back again. ``loses``
    and ``doubles`` say of each datagram, numbered from 1, what becomes of it. ``seen`` are those of the device."""

    def __init__(self, service: Address) -> None:
        self._service = service
        self._inner: asyncio.DatagramTransport
        self._outer: asyncio.DatagramTransport
        self._device: Address | None = None
        self._count = 0
        self.loses: Callable[[int], bool] = lambda number: False
        self.doubles: Callable[[int], bool] = lambda number: False
        self.seen: list[bytes] = []
        self.port = 0

    async def open(self) -> "Relay":
        """Begins."""
        loop = asyncio.get_running_loop()
        inner, _ = await loop.create_datagram_endpoint(lambda: _End(self._outward), local_addr=("127.0.0.1", 0))
        self._inner, self.port = inner, inner.get_extra_info("sockname")[1]
        await self.move()
        return self

    async def move(self) -> None:
        """Speaks from another address from now on, as after a change of the network."""
        loop = asyncio.get_running_loop()
        before = getattr(self, "_outer", None)
        outer, _ = await loop.create_datagram_endpoint(lambda: _End(self._inward), local_addr=("127.0.0.1", 0))
        self._outer = outer
        if before is not None:
            before.close()

    async def say(self, datagram: bytes) -> None:
        """Sends something to the service in the device's name."""
        self._outer.sendto(datagram, self._service)

    async def close(self) -> None:
        """Ends."""
        self._inner.close()
        self._outer.close()

    def _outward(self, data: bytes, sender: Address) -> None:
        self._device = sender
        self.seen.append(data)
        self._pass(data, lambda: self._outer.sendto(data, self._service))

    def _inward(self, data: bytes, sender: Address) -> None:
        if self._device is not None:
            device = self._device
            self._pass(data, lambda: self._inner.sendto(data, device))

    def _pass(self, data: bytes, send: Callable[[], Any]) -> None:
        self._count += 1
        if self.loses(self._count):
            return
        send()
        if self.doubles(self._count):
            send()


class _End(asyncio.DatagramProtocol):
    def __init__(self, take: Callable[[bytes, Address], None]) -> None:
        self._take = take

    def datagram_received(self, data: bytes, addr: Any) -> None:
        self._take(data, addr)
