"""Waiting for what comes to pass by itself, however slow the machine is: who waits in vain waits long, and nobody else.

No test says by this how fast something is; that is what ``bench/`` is for.
"""

import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")

PATIENCE_S = 300.0
"""A test that is right is never ended by this, even where a second of work takes ten."""


def until(wanted: Callable[[], T], about: Callable[[], object] = lambda: "", *, every: float = 0.05) -> T:
    """Waits until ``wanted()`` is true; returns what it is. ``AssertionError`` when the patience is over, which says
    what there is to say ``about`` it then."""
    deadline = time.monotonic() + PATIENCE_S
    while not (told := wanted()):
        assert time.monotonic() < deadline, f"it did not come to pass: {told!r} {about()}"
        time.sleep(every)
    return told
