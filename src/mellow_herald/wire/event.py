"""The event feed, the journal and the overview."""

from typing import Any

from pydantic import Field

from mellow_herald.core.presence import Presence
from mellow_herald.wire.model import Shown, Time
from mellow_herald.wire.rollout import RolloutOut
from mellow_herald.wire.topology import AlarmOut


class Event(Shown):
    """One sealed event. ``id`` rises without gaps in commit order; it is the SSE ``id``."""

    id: int
    at: Time
    kind: str
    rollout_id: int | None = None
    device_id: int | None = None
    attempt_id: int | None = None
    data: dict[str, Any] = Field(default_factory=dict)


class JournalEntry(Shown):
    """One link of the journal: who or what did what, when and why."""

    link: int
    at: Time
    who: str
    what: str
    subject: str
    why: str
    data: dict[str, Any]
    hash: str


class JournalCheck(Shown):
    """Whether the journal is what it was when it was written: how many links follow each other, the hash of the last
    one that does, and the number of the first that does not (None: all do)."""

    links: int
    hash: str
    broken: int | None


class VersionCount(Shown):
    """How many devices run a version on a board and line."""

    board: str
    line: str
    version: str | None
    known_build: bool | None
    devices: int


class Attention(Shown):
    """Devices that need a person: how many, the first of them, and the selector that finds them all."""

    kind: str
    words: str
    devices: int
    first: list[str]
    where: str


class PresenceSample(Shown):
    """How many admitted devices were present how, from ``at`` until the next sample."""

    at: Time
    counts: dict[Presence, int]


class Overview(Shown):
    """What needs a person, what is moving, and who is there. ``ended`` are the rollouts that ended in the last days,
    the latest first. ``alarms`` are the newest of the last day that no update explains, ``alarms_unexplained`` how many
    there are. Devices were counted at ``counted_at``: in a large fleet at most 10 s (of real time) ago."""

    now: Time
    counted_at: Time
    scale: float
    presence: dict[Presence, int]
    versions: list[VersionCount]
    moving: list[RolloutOut]
    ended: list[RolloutOut] = Field(default_factory=list)
    asking: int
    unknown_builds: int
    attention: list[Attention] = Field(default_factory=list)
    unhealthy_images: list[str]
    alarms: list[AlarmOut] = Field(default_factory=list)
    alarms_unexplained: int = 0


class Health(Shown):
    """Whether the service serves; ``checks`` names what is not well."""

    ok: bool
    version: str
    checks: dict[str, str]
