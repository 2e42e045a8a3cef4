"""Signals: readings with a definition, and what sending them costs."""

from collections.abc import Iterable
from enum import StrEnum

DAY_S = 86_400
# What a device sends beside the values: headers, token, name of the signals. Once a call.
CALL_BYTES = 400
CALL_S = 60
"""A live device gathers what it has for so long (s) before it calls, unless its period is longer."""
TIME_BYTES = 3
SHORTEST_S = 0.1


class SignalKind(StrEnum):
    """What the values of a signal are: numbers, one of some words (an operating state), or any text."""

    NUMBER = "number"
    STATE = "state"
    TEXT = "text"


def bytes_a_day(signals: Iterable[tuple[int, float]]) -> int:
    """What a device sends in a day that is asked for signals of these sizes (bytes) at these periods (s): the values,
    a time for each moment that has any, and the calls."""
    asked = [(size, max(period, SHORTEST_S)) for size, period in signals]
    if not asked:
        return 0
    values = sum(size * DAY_S / period for size, period in asked)
    # Signals of one period are told with one time.
    times = sum(TIME_BYTES * DAY_S / period for period in {period for _, period in asked})
    calls = CALL_BYTES * DAY_S / max(CALL_S, min(period for _, period in asked))
    return round(values + times + calls)
