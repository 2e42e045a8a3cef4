"""A glance at a check-in: enough to see that it brings nothing new, at a small part of what a full reading costs.

What a device says divides into what it *states* (what it runs, and the like) and what passes: the number of the call,
how long it has been up, its condition and its readings. What it states is only compared with what a full reading has
passed before, as a fingerprint; of what passes, nothing is taken that a full reading would not take. Where a glance
cannot tell, there is a full reading, which says what is wrong.
"""

from dataclasses import dataclass
from typing import Any

import orjson

from mellow_herald.core.limits import LARGEST_INTEGER
from mellow_herald.wire.device import Condition

# Conditions repeat: few batteries, links and yes-or-noes make up those of a whole fleet.
CONDITIONS_KEPT, LONGEST_KEPT = 8192, 300
_NUMBERS = (int, float)
_NONE: dict[str, Any] = {}
_conditions: dict[bytes, dict[str, Any]] = {}


@dataclass(frozen=True, slots=True)
class Glance:
    """What was seen. ``statement`` is the fingerprint of what the device states, by a hash that is keyed anew in each
    process: to be compared with the same device's last one there, and nothing else. ``is_news`` if whatever it states
    has to be read."""

    statement: int
    boots: int
    seq: int
    condition: dict[str, Any]
    readings: dict[str, float]
    is_news: bool

    @property
    def place(self) -> int:
        """What the device states, and which of its calls this is, in one number."""
        return hash((self.statement, self.seq))

    @property
    def place_of_next(self) -> int:
        """The same for a call that states the same and comes next."""
        return hash((self.statement, self.seq + 1))


def glance_at(body: bytes) -> Glance | None:
    """What is seen in the body of a check-in; None if only a full reading can tell."""
    try:
        said = orjson.loads(body)
        seq, uptime_s = said.pop("seq"), said.pop("uptime_s", 0)
        condition, readings = said.pop("condition", _NONE), said.pop("readings", _NONE)
        alarms, after_restart = said.pop("alarms", []), said.pop("after_restart", False)
        fits = _is_whole(seq) and _is_whole(uptime_s) and type(readings) is dict
        if not fits or type(alarms) is not list or type(after_restart) is not bool:
            return None
        for value in readings.values():
            if type(value) not in _NUMBERS:
                return None
        said["readings"] = [*readings]  # their names are looked at by the full reading alone
        statement, is_news = hash(orjson.dumps(said)), bool(alarms) or after_restart
        return Glance(statement, said["boots"], seq, _condition(condition), readings, is_news)
    except (ValueError, TypeError, AttributeError, KeyError):  # not JSON, or not of the shape that a check-in has
        return None


def _is_whole(value: object) -> bool:
    return type(value) is int and 0 <= value <= LARGEST_INTEGER


def _condition(said: object) -> dict[str, Any]:
    written = orjson.dumps(said)
    condition = _conditions.get(written)
    if condition is None:
        condition = Condition.model_validate_json(written).model_dump(exclude_none=True)
        if len(_conditions) >= CONDITIONS_KEPT:
            _conditions.clear()
        if len(written) <= LONGEST_KEPT:  # fields that nobody knows are ignored, and may be of any length
            _conditions[written] = condition
    return condition
