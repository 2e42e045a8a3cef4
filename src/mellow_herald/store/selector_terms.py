"""What a selector may speak of in this fleet: components, and the values that facts and labels have."""

from datetime import datetime

from sqlalchemy import String, cast, func, select
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.selector.tree import COMPONENT_SUFFIX, Kind, component_of, kind_of
from mellow_herald.store.selector_sql import joined_column
from mellow_herald.store.tables import Device, Pulse

MOST = 50


async def components(connection: AsyncConnection) -> list[str]:
    """The names of all components that devices run."""
    key = func.jsonb_object_keys(Device.running).label("key")
    inner = select(key).distinct().subquery()
    return list((await connection.execute(select(inner.c.key).order_by(inner.c.key))).scalars())


async def values(connection: AsyncConnection, name: str, now: datetime) -> list[tuple[str, int]]:
    """The values of a fact or label and how many devices have them, most frequent first."""
    if "\0" in name or kind_of(name) is Kind.AGE:
        return []
    if kind_of(name) is Kind.VERSION:  # their columns hold keys that sort, not what people read
        component = component_of(name) or name.removesuffix(COMPONENT_SUFFIX)
        own = Device.running[component]["version"].astext
        column = Device.version if name == "version" else own
    else:
        column = joined_column(name, now)
    value = cast(column, String).label("value")
    inner = select(value).select_from(Device).outerjoin(Pulse, Pulse.device_id == Device.id).subquery()
    count = func.count().label("devices")
    statement = select(inner.c.value, count).where(inner.c.value.is_not(None)).group_by(inner.c.value)
    rows = await connection.execute(statement.order_by(count.desc(), inner.c.value).limit(MOST))
    flags = {"true": "yes", "false": "no"} if kind_of(name) is Kind.FLAG else {}
    return [(flags.get(row.value, row.value), row.devices) for row in rows]
