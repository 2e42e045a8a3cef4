"""The client library: ``Herald`` and ``AsyncHerald``, one shape.

::

    with Herald("http://127.0.0.1:8410", token=...) as herald:
        release = herald.releases.publish("hive-scale-2.5.0.bin", key=key)
        rollout = herald.rollouts.start(plan)
        for event in herald.rollouts.watch(rollout.id):
            ...
"""

from typing import TYPE_CHECKING, Any

from mellow_herald.client.errors import (
    HeraldError,
    NotSignedInError,
    ProblemError,
    UnreachableError,
    WaitedTooLongError,
)
from mellow_herald.client.synchronous.herald import Herald

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald

__all__ = [
    "AsyncHerald",
    "Herald",
    "HeraldError",
    "NotSignedInError",
    "ProblemError",
    "UnreachableError",
    "WaitedTooLongError",
]


def __getattr__(name: str) -> Any:
    """``AsyncHerald`` is loaded when it is asked for: the command line never does."""
    if name == "AsyncHerald":
        from mellow_herald.client.asynchronous.herald import AsyncHerald

        return AsyncHerald
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
