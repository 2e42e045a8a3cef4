"""The client library: ``Herald`` and ``AsyncHerald``, one shape.

::

    with Herald("http://127.0.0.1:8410", token=...) as herald:
        release = herald.releases.publish("hive-scale-2.5.0.bin", key=key)
        rollout = herald.rollouts.start(plan)
        for event in herald.rollouts.watch(rollout.id):
            ...
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mellow_herald.client.asynchronous.herald import AsyncHerald
    from mellow_herald.client.errors import (
        HeraldError,
        NotSignedInError,
        ProblemError,
        UnreachableError,
        WaitedTooLongError,
    )
    from mellow_herald.client.synchronous.herald import Herald

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
    """What is asked for is loaded then: to check a plan file takes neither of the two, nor anything that calls."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    places = {"AsyncHerald": "asynchronous.herald", "Herald": "synchronous.herald"}
    found = getattr(import_module(f"{__name__}.{places.get(name, 'errors')}"), name)
    globals()[name] = found
    return found
