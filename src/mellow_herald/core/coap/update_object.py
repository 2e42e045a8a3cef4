"""The standard's object 5 (firmware update, OMA LwM2M 1.1): what its numbers say of an attempt.

A device tells a state and, back in ``idle``, the result of what it tried last. That it says *success* is not enough:
what it runs afterwards decides, as everywhere.
"""

from dataclasses import dataclass
from enum import IntEnum

from mellow_herald.core.attempt.states import AT_RISK, FELL_BACK, State, WaitingFor


class UpdateState(IntEnum):
    """Resource 5/0/3."""

    IDLE = 0
    DOWNLOADING = 1
    DOWNLOADED = 2
    UPDATING = 3


class UpdateResult(IntEnum):
    """Resource 5/0/5."""

    INITIAL = 0
    SUCCESS = 1
    NOT_ENOUGH_FLASH = 2
    OUT_OF_MEMORY = 3
    CONNECTION_LOST = 4
    INTEGRITY_FAILED = 5
    UNSUPPORTED_PACKAGE = 6
    INVALID_URI = 7
    UPDATE_FAILED = 8
    UNSUPPORTED_PROTOCOL = 9
    CANCELLED = 10
    DEFERRED = 11


@dataclass(frozen=True, slots=True)
class Word:
    """What a device has said: the ``state`` of its attempt with the ``reason`` of a bad one, or what it ``waits_for``.
    All None: nothing that moves it, or (``what_runs_decides``) what it runs now tells how it ended."""

    state: State | None = None
    reason: str | None = None
    waits_for: WaitingFor | None = None
    what_runs_decides: bool = False


WHILE = {
    UpdateState.DOWNLOADING: State.DOWNLOADING,
    UpdateState.DOWNLOADED: State.STAGED,
    UpdateState.UPDATING: State.INSTALLING,
}
# Before the switch.
FAILED = {
    UpdateResult.NOT_ENOUGH_FLASH: "no-room",
    UpdateResult.OUT_OF_MEMORY: "no-room",
    UpdateResult.CONNECTION_LOST: "download-broken",
    UpdateResult.INTEGRITY_FAILED: "digest-mismatch",
    UpdateResult.UNSUPPORTED_PACKAGE: "refused-by-device",
    UpdateResult.INVALID_URI: "download-broken",
    UpdateResult.UPDATE_FAILED: "flash-error",
    UpdateResult.UNSUPPORTED_PROTOCOL: "refused-by-device",
}


def read(state: UpdateState, result: UpdateResult, before: State) -> Word:
    """What state and result say of an attempt that stood at ``before``."""
    if state is not UpdateState.IDLE:
        deferred = result is UpdateResult.DEFERRED and state is UpdateState.DOWNLOADED
        return Word(WHILE[state], waits_for=WaitingFor.DEVICE_BUSY if deferred else None)
    if result is UpdateResult.SUCCESS:
        return Word(what_runs_decides=True)
    if result in (UpdateResult.INITIAL, UpdateResult.CANCELLED, UpdateResult.DEFERRED):
        # A device that restarted may have forgotten what it tried: if it had leave to switch, its slots tell.
        return Word(what_runs_decides=before in AT_RISK)
    if before in AT_RISK:
        # It had leave to switch, and may have before anybody heard of it.
        return Word(State.REVERTED, FELL_BACK)
    return Word(State.FAILED, FAILED[result])


def result_of(reason: str) -> UpdateResult:
    """The result that a device tells for a reason of ours: the standard's are fewer."""
    return TOLD_AS.get(reason, UpdateResult.UPDATE_FAILED)


TOLD_AS = {
    "no-room": UpdateResult.NOT_ENOUGH_FLASH,
    "download-broken": UpdateResult.CONNECTION_LOST,
    "digest-mismatch": UpdateResult.INTEGRITY_FAILED,
    "signature-refused": UpdateResult.INTEGRITY_FAILED,
    "refused-by-device": UpdateResult.UNSUPPORTED_PACKAGE,
}


def in_words(state: int | None, result: int | None) -> tuple[str, str]:
    """The numbers of 5/0/3 and 5/0/5 in words; what is not of the standard says so."""
    return _word(UpdateState, state), _word(UpdateResult, result)


def _word(names: type[IntEnum], number: int | None) -> str:
    if number is None:
        return ""
    try:
        return names(number).name.lower().replace("_", "-")
    except ValueError:
        return "not of the standard"
