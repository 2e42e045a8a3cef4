# Written by `make client` from ../asynchronous; change it there.
"""Devices on narrow radio, and their sessions, by the synchronous client."""

import builtins
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from mellow_herald.client import radio_calls as calls
from mellow_herald.client.paging import every
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
    from mellow_herald.client.synchronous.herald import Herald

MOST_AT_ONCE = 1000


class Radio:
    """Narrow radio."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def network(self) -> RadioNetworkOut:
        """The radio network that the service follows, and how many devices are on narrow radio."""
        return self._herald.send(calls.show_network())

    def list(self, *, limit: int = 100, after: str | None = None) -> Page[RadioDeviceOut]:
        """A page of the devices on narrow radio, by serial."""
        return self._herald.send(calls.list_radio_devices(limit, after))

    def each(self) -> Iterator[RadioDeviceOut]:
        """All devices on narrow radio, page after page."""
        return every(lambda after: self.list(limit=1000, after=after))

    def show(self, serial: str) -> RadioDeviceOut:
        """What is on record of one device's radio."""
        return self._herald.send(calls.show_radio_device(serial))

    def record(
        self, devices: Sequence[RadioEntry], *, reason: str = "radio facts recorded", check: bool = False
    ) -> RadioReport:
        """Records what is known of devices' radios, root keys too, a thousand at a time; with ``check`` it only tells
        what that would do. Who cannot be recorded is refused by name, the others are taken."""
        told = RadioReport(changed=[], unchanged=0, refusals=[])
        for at in range(0, len(devices), MOST_AT_ONCE):
            some = [*devices[at : at + MOST_AT_ONCE]]
            one = self._herald.send(calls.record_radio_devices(RadioEntries(devices=some, reason=reason, check=check)))
            told.changed += one.changed
            told.unchanged += one.unchanged
            told.refusals += one.refusals
        return told

    def sessions(self, rollout_id: int) -> builtins.list[RadioSessionOut]:
        """The sessions of a rollout in the order in which they were planned, without their members."""
        return self._herald.send(calls.list_sessions(rollout_id))

    def session(self, session_id: int) -> RadioSessionOut:
        """One session with its members: how far each is."""
        return self._herald.send(calls.show_session(session_id))
