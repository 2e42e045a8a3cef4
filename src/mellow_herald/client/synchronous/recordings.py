# Written by `make client` from ../asynchronous; change it there.
"""Recordings: what devices have kept at full rate, by the synchronous client."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from mellow_herald.client import recording_calls as calls
from mellow_herald.client.recording_calls import Form
from mellow_herald.wire.recordings import RecordingIn, RecordingOut
from mellow_herald.wire.rollout import ReasonIn

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.herald import Herald


class Recordings:
    """Stretches of readings that devices are asked for, as files."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def ask(self, serial: str, asked: RecordingIn) -> RecordingOut:
        """Asks a device for a stretch of what it has kept; it sends it in parts."""
        return self._herald.send(calls.ask_for_recording(serial, asked))

    def list(self, *, where: str | None = None) -> list[RecordingOut]:
        """Recordings of the devices that a selector picks, the newest first."""
        return self._herald.send(calls.list_recordings(where))

    def show(self, number: int) -> RecordingOut:
        """One recording, and how far it is."""
        return self._herald.send(calls.show_recording(number))

    def cancel(self, number: int, reason: str) -> RecordingOut:
        """The device need not send it any more."""
        return self._herald.send(calls.cancel_recording(number, ReasonIn(reason=reason)))

    def file(self, number: int, form: Form = "csv") -> Iterator[bytes]:
        """A complete recording, piece by piece: CSV packed by gzip, JSON Lines, or NetCDF."""
        return self._herald.download(calls.recording_file(number, form))
