"""Devices on narrow radio, and their sessions, by the asynchronous client."""

import builtins
from collections.abc import AsyncIterator, Sequence
from typing import TYPE_CHECKING

from mellow_herald.client import radio_calls as calls
from mellow_herald.client.paging import every_async
from mellow_herald.wire.model import Page
from mellow_herald.wire.radio import (
    RadioDeviceOut,
    RadioEntries,
    RadioEntry,
    RadioNetworkOut,
    RadioReport,
    RadioSessionOut,
)

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald

MOST_AT_ONCE = 1000


class Radio:
    """Narrow radio."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def network(self) -> RadioNetworkOut:
        """The radio network that the service follows, and how many devices are on narrow radio."""
        return await self._herald.send(calls.show_network())

    async def list(self, *, limit: int = 100, after: str | None = None) -> Page[RadioDeviceOut]:
        """A page of the devices on narrow radio, by serial."""
        return await self._herald.send(calls.list_radio_devices(limit, after))

    def each(self) -> AsyncIterator[RadioDeviceOut]:
        """All devices on narrow radio, page after page."""
        return every_async(lambda after: self.list(limit=1000, after=after))

    async def show(self, serial: str) -> RadioDeviceOut:
        """What is on record of one device's radio."""
        return await self._herald.send(calls.show_radio_device(serial))

    async def record(
        self, devices: Sequence[RadioEntry], *, reason: str = "radio facts recorded", check: bool = False
    ) -> RadioReport:
        """Records what is known of devices' radios, root keys too, a thousand at a time; with ``check`` it only tells
        what that would do. Who cannot be recorded is refused by name, the others are taken."""
        told = RadioReport(changed=[], unchanged=0, refusals=[])
        for at in range(0, len(devices), MOST_AT_ONCE):
            some = [*devices[at : at + MOST_AT_ONCE]]
            one = await self._herald.send(
                calls.record_radio_devices(RadioEntries(devices=some, reason=reason, check=check))
            )
            told.changed += one.changed
            told.unchanged += one.unchanged
            told.refusals += one.refusals
        return told

    async def sessions(self, rollout_id: int) -> builtins.list[RadioSessionOut]:
        """The sessions of a rollout in the order in which they were planned, without their members."""
        return await self._herald.send(calls.list_sessions(rollout_id))

    async def session(self, session_id: int) -> RadioSessionOut:
        """One session with its members: how far each is."""
        return await self._herald.send(calls.show_session(session_id))
