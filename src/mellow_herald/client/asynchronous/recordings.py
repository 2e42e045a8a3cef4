"""Recordings: what devices have kept at full rate, by the asynchronous client."""

from collections.abc import AsyncIterator
from typing import TYPE_CHECKING

from mellow_herald.client import recording_calls as calls
from mellow_herald.client.recording_calls import Form
from mellow_herald.wire.recordings import RecordingIn, RecordingOut
from mellow_herald.wire.rollout import ReasonIn

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald


class Recordings:
    """Stretches of readings that devices are asked for, as files."""

    def __init__(self, herald: "AsyncHerald") -> None:
        self._herald = herald

    async def ask(self, serial: str, asked: RecordingIn) -> RecordingOut:
        """Asks a device for a stretch of what it has kept; it sends it in parts."""
        return await self._herald.send(calls.ask_for_recording(serial, asked))

    async def list(self, *, where: str | None = None) -> list[RecordingOut]:
        """Recordings of the devices that a selector picks, the newest first."""
        return await self._herald.send(calls.list_recordings(where))

    async def show(self, number: int) -> RecordingOut:
        """One recording, and how far it is."""
        return await self._herald.send(calls.show_recording(number))

    async def cancel(self, number: int, reason: str) -> RecordingOut:
        """The device need not send it any more."""
        return await self._herald.send(calls.cancel_recording(number, ReasonIn(reason=reason)))

    def file(self, number: int, form: Form = "csv") -> AsyncIterator[bytes]:
        """A complete recording, piece by piece: CSV packed by gzip, JSON Lines, or NetCDF."""
        return self._herald.download(calls.recording_file(number, form))
