"""The client library: ``Herald`` and ``AsyncHerald``, one shape.

::

    with Herald("http://127.0.0.1:8410", token=...) as herald:
        release = herald.releases.publish("hive-scale-2.5.0.bin", key=key)
        rollout = herald.rollouts.start(plan)
        for event in herald.rollouts.watch(rollout.id):
            ...
"""

from mellow_herald.client.asynchronous import AsyncHerald
from mellow_herald.client.errors import HeraldError, NotSignedInError, ProblemError, UnreachableError
from mellow_herald.client.synchronous import Herald

__all__ = ["AsyncHerald", "Herald", "HeraldError", "NotSignedInError", "ProblemError", "UnreachableError"]
