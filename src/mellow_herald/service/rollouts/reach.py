"""Which device reaches the network through which, as it is known now."""

from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.topology import Topology
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import families

MOST_RELATED = 200_000


async def load(connection: AsyncConnection) -> Topology:
    """Which device reaches the network through which; raises a problem where there are too many to be shown."""
    related = await families.relations(connection, MOST_RELATED + 1)
    if len(related) > MOST_RELATED:
        raise ProblemError(
            422, "too-many-devices", f"More than {MOST_RELATED} devices have a gateway: ask for those behind one."
        )
    return Topology({row["serial"]: row["gateway"] for row in related if row["gateway"] is not None})
