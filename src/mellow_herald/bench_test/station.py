"""A station of the course: what it asks for, and what was found."""

from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from enum import StrEnum


class Outcome(StrEnum):
    """How a station ended. ``NOT_TRIED``: what it needs was not given, or the device does not do it at all."""

    RIGHT = "right"
    WRONG = "wrong"
    NOT_TRIED = "not tried"


@dataclass(slots=True)
class Finding:
    """What came of a station: ``seen`` in the order in which it was, ``wrong`` what was against the ``sentence`` of the
    protocol; ``seconds`` it took."""

    name: str
    title: str
    sentence: str
    outcome: Outcome = Outcome.RIGHT
    seen: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)
    seconds: float = 0.0


class WrongError(Exception):
    """The device does something else than the protocol says, so the station need not go on."""


class NotTriedError(Exception):
    """What the station needs is not there."""


@dataclass(frozen=True, slots=True)
class Station:
    """A station: its ``name`` for the command line, a ``title``, the ``sentence`` of the protocol that it is about."""

    name: str
    title: str
    sentence: str
    run: "Callable[..., Awaitable[None]]"
