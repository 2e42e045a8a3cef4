"""The calls about recordings."""

from typing import Literal

from mellow_herald.client.calls import API, Call, get, post
from mellow_herald.wire.recordings import RecordingIn, RecordingOut
from mellow_herald.wire.rollout import ReasonIn

Form = Literal["csv", "jsonl", "netcdf"]


def ask_for_recording(serial: str, asked: RecordingIn) -> Call[RecordingOut]:
    """Asks a device for a stretch."""
    return post(f"asking {serial} for a recording", f"{API}/devices/{serial}/recordings", RecordingOut, asked)


def list_recordings(where: str | None) -> Call[list[RecordingOut]]:
    """Recordings."""
    return get("listing recordings", f"{API}/recordings", list[RecordingOut], where=where)


def show_recording(number: int) -> Call[RecordingOut]:
    """One recording."""
    return get(f"looking at recording {number}", f"{API}/recordings/{number}", RecordingOut)


def cancel_recording(number: int, request: ReasonIn) -> Call[RecordingOut]:
    """It need not be sent any more."""
    return post(f"cancelling recording {number}", f"{API}/recordings/{number}/cancel", RecordingOut, request)


def recording_file(number: int, form: Form) -> Call[bytes]:
    """A complete recording as a file."""
    doing = f"fetching recording {number}"
    return Call(doing, "GET", f"{API}/recordings/{number}/file", bytes, params={"format": form}, repeatable=True)
