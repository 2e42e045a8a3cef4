"""Gateways and what is behind them, in which order devices switch, and the alarms of neighbours."""

from pydantic import Field

from mellow_herald.core.attempt import State
from mellow_herald.wire.model import Shown, Time


class CutOffOut(Shown):
    """Why a device cannot be reached for now: the gateway ``by`` restarts for an update, since when, and when it is
    expected back (None: no restart of it is known)."""

    by: str
    since: Time
    expected_back: Time | None


class TopologyNode(Shown):
    """A device that is a gateway, or has one; not ``known`` is one that others name and that never enrolled. ``behind``
    counts all that reach the network through it; ``state`` is that of its newest attempt, while that is live or if it
    went bad; ``restart_s`` the median of its last restarts for an update, in seconds."""

    serial: str
    gateway: str | None
    known: bool = True
    board: str | None = None
    line: str | None = None
    version: str | None = None
    presence: str | None = None
    seen_at: Time | None = None
    state: State | None = None
    rollout_id: int | None = None
    failed_part: str | None = None
    behind: int = 0
    restart_s: float | None = None
    cut_off: CutOffOut | None = None


class TopologyOut(Shown):
    """Gateways and the devices behind them, each after its gateway. ``total`` are all there are, where ``nodes`` shows
    a part of them; ``circles`` are gateways that are behind each other."""

    now: Time
    nodes: list[TopologyNode]
    total: int
    circles: list[list[str]] = Field(default_factory=list)


class RestartPreview(Shown):
    """A gateway that restarts in a step: whom that cuts off. ``outside`` counts devices that the rollout does not
    touch, ``first`` their first serials; ``inside`` those that are in it, and through by then; ``seconds`` is the
    median of its last restarts (None: not known)."""

    gateway: str
    outside: int
    first: list[str]
    inside: int
    seconds: float | None


class StepOut(Shown):
    """One step of a rollout: ``do`` is ``stage`` or ``switch``, ``waits_for`` what has to be over first, in words;
    ``restarts`` are the gateways that this cuts off from the network."""

    number: int
    ring: str
    do: str
    devices: int
    first: list[str]
    waits_for: list[str]
    restarts: list[RestartPreview] = Field(default_factory=list)


class StepsOut(Shown):
    """In which order a plan would stage and switch, now. ``parts`` are the release's components in the groups in which
    a device switches them; ``restart`` tells whether devices restart at all; ``notes`` what to know of it."""

    now: Time
    name: str
    release: str
    parts: list[list[str]]
    restart: bool
    steps: list[StepOut]
    notes: list[str] = Field(default_factory=list)


class AlarmOut(Shown):
    """Something that a device noticed. ``about`` is a serial or a port, ``at`` the device's time; ``attempt_id`` and
    ``rollout_id`` are those of the update that explains it, if one does."""

    id: int
    serial: str
    kind: str
    about: str
    at: Time
    heard_at: Time
    detail: str
    attempt_id: int | None
    rollout_id: int | None
