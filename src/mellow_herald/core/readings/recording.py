"""Recordings: a stretch of readings that a device has kept at full rate, and sends as a file in parts."""

from enum import StrEnum

LARGEST_PART = 256 * 1024
LARGEST = 64 * 1024 * 1024
"""Bytes of a recording, packed."""
MOST_TRIES = 3


class RecordingState(StrEnum):
    """How far a recording is. ``asked``: the device has not said yet what it has; ``coming``: it has said it."""

    ASKED = "asked"
    COMING = "coming"
    COMPLETE = "complete"
    FAILED = "failed"
    CANCELLED = "cancelled"


OPEN = (RecordingState.ASKED, RecordingState.COMING)


class NoRecording(StrEnum):
    """Why there will be none; the first three are a device's words. ``no-answer``: for a week nothing of it came."""

    NOTHING_KEPT = "nothing-kept"
    NO_ROOM = "no-room"
    NOT_ABLE = "not-able"
    TOO_LARGE = "too-large"
    CORRUPTED = "corrupted"
    UNREADABLE = "unreadable"
    NO_ANSWER = "no-answer"


def fits(have: int, begin: int, length: int) -> tuple[int, int] | None:
    """Which bytes (from, to) of a part that begins at ``begin`` are new where ``have`` bytes are there; None if none
    are: it was sent before, or one before it is missing."""
    if begin > have or begin + length <= have:
        return None
    return have - begin, length
