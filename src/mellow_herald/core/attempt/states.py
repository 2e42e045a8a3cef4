"""Where an attempt can stand, why it went wrong, and what it can wait for."""

from enum import StrEnum


class State(StrEnum):
    """Where an attempt stands."""

    QUEUED = "queued"
    OFFERED = "offered"
    DOWNLOADING = "downloading"
    STAGED = "staged"
    CLEARED = "cleared"
    INSTALLING = "installing"
    PROVING = "proving"
    CONFIRMED = "confirmed"
    FAILED = "failed"
    REVERTED = "reverted"
    SILENT = "silent"
    RELAPSED = "relapsed"
    CALLED_OFF = "called-off"
    ROLLED_BACK = "rolled-back"


FORWARD = (
    State.QUEUED,
    State.OFFERED,
    State.DOWNLOADING,
    State.STAGED,
    State.CLEARED,
    State.INSTALLING,
    State.PROVING,
    State.CONFIRMED,
)
RANK = {state: rank for rank, state in enumerate(FORWARD)}
BEFORE_SWITCH = frozenset(FORWARD[:4])
FETCHING = frozenset({State.OFFERED, State.DOWNLOADING})
AT_RISK = frozenset({State.CLEARED, State.INSTALLING, State.PROVING})
UNDER_WAY = BEFORE_SWITCH | AT_RISK
BAD = frozenset({State.FAILED, State.REVERTED, State.SILENT, State.RELAPSED})
RETRIED = frozenset({State.FAILED, State.REVERTED, State.SILENT})
REPORTABLE = frozenset(
    {
        State.DOWNLOADING,
        State.STAGED,
        State.INSTALLING,
        State.PROVING,
        State.CONFIRMED,
        State.FAILED,
        State.REVERTED,
    }
)
SWITCHED = frozenset({State.INSTALLING, State.PROVING, State.CONFIRMED, State.REVERTED})

# Who is here has all of its images, or had.
HAS_IMAGE = frozenset(
    {
        State.STAGED,
        State.CLEARED,
        State.INSTALLING,
        State.PROVING,
        State.CONFIRMED,
        State.REVERTED,
        State.RELAPSED,
        State.ROLLED_BACK,
    }
)

# Where a device went back without a word, losing power is the least that must have happened.
UNSAID = "power-lost"
FELL_BACK = "fell-back"
WRONG_IMAGE = "wrong-image"
IN_RECOVERY = "in-recovery"
# A part can neither be brought to the new nor back to the old: somebody has to go there.
NEEDS_CABLE = "needs-cable"
ALREADY_BACK = "already-back"
ARRIVED_OTHERWISE = "arrived-otherwise"
FLASHED_BY_HAND = "flashed-by-hand"
# Why an attempt was called off because somebody else had a hand in it: no evidence for or against the release.
ELSEWISE = frozenset({ARRIVED_OTHERWISE, FLASHED_BY_HAND})
FAILED_REASONS = frozenset(
    {
        "download-broken",
        "digest-mismatch",
        "signature-refused",
        "no-room",
        "flash-error",
        "refused-by-device",
        "install-loop",
        "settings-changed",
        WRONG_IMAGE,
    }
)
REVERTED_REASONS = frozenset(
    {
        "crashed",
        "hung",
        "self-test-failed",
        "no-contact",
        "action-failed",
        "settings-refused",
        "stream-broken",
        NEEDS_CABLE,
        UNSAID,
        IN_RECOVERY,
        FELL_BACK,
    }
)
# What ran and was found bad, and what can only come out the same: nobody is given that image again without being asked.
ENDURING = frozenset(
    {
        "self-test-failed",
        "crashed",
        "hung",
        "no-contact",
        "action-failed",
        "settings-refused",
        "settings-changed",
        NEEDS_CABLE,
        FELL_BACK,
        "signature-refused",
        "refused-by-device",
    }
)
# What another transfer may mend, but not a third.
ONCE_MORE = frozenset({"digest-mismatch"})
RELAPSED_REASONS = frozenset(
    {"crash-looping", "went-silent", "readings-worse", FELL_BACK, "install-loop", FLASHED_BY_HAND}
)
REASONS = {
    State.FAILED: FAILED_REASONS,
    State.REVERTED: REVERTED_REASONS,
    State.RELAPSED: RELAPSED_REASONS,
}


class DownloadStep(StrEnum):
    """What a device does while ``downloading``; on narrow radio first of all what it is still to be told before a
    session, and that it is ready for it."""

    CLOCK = "clock"
    GROUP = "group"
    SESSION = "session"
    FRAGMENTS = "fragments"
    READY = "ready"
    FETCH = "fetch"
    VERIFY = "verify"
    ERASE = "erase"
    WRITE = "write"


class WaitingFor(StrEnum):
    """What a ``queued`` or ``staged`` attempt waits for."""

    NEXT_CHECK_IN = "next-check-in"
    BATTERY = "battery"
    CHARGER = "charger"
    LINK = "link"
    WINDOW = "window"
    OWNER_POSTPONED = "owner-postponed"
    OWNER_CONSENT = "owner-consent"
    DEVICE_BUSY = "device-busy"
    PACE = "pace"
    HARM_BUDGET = "harm-budget"
    CHILDREN = "children"
    GATEWAY = "gateway"
    RING = "ring"


# What a device has to meet before it is served: who waits for these too long is set aside. A window comes by itself,
# pace and harm budget are the service's own doing, and the rest of a ring is waited for by rules of its own.
CONDITIONS = frozenset(WaitingFor) - {
    WaitingFor.NEXT_CHECK_IN,
    WaitingFor.WINDOW,
    WaitingFor.PACE,
    WaitingFor.HARM_BUDGET,
    WaitingFor.RING,
}
