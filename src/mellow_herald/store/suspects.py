"""The decided devices of a rollout and what is known of each: the columns in which suspects are looked for."""

from typing import TypedDict

from sqlalchemy import and_, func, select
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.attempt import BAD, State
from mellow_herald.core.plan import BrakeKind
from mellow_herald.store.brakes import COUNTED
from mellow_herald.store.database import fetch_all
from mellow_herald.store.rings import NO_VALUE
from mellow_herald.store.tables import AttemptRow, Pulse


class Decided(TypedDict):
    """A decided device: its frozen facts, its link, and whether it is bad."""

    facts: dict[str, str]
    link: str
    bad: bool


DECIDED = [state.value for state in (State.CONFIRMED, State.ROLLED_BACK, *BAD)]


async def load_decided(
    connection: AsyncConnection, rollout_id: int, kind: BrakeKind, *, excepted: bool = False
) -> tuple[dict[str, list[str]], list[bool]]:
    """For each fact and label one value for each decided device of a rollout, and whether that device is bad: harmed
    among the exposed, or undelivered among those that were told. Who was left out is among them only with
    ``excepted``."""
    begins, went_bad = COUNTED[kind]
    link = func.coalesce(Pulse.condition["link"].astext, NO_VALUE)
    statement = (
        select(AttemptRow.facts, link.label("link"), went_bad.is_not(None).label("bad"))
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            begins.is_not(None),
            # Told and called off in time is neither good nor bad.
            and_(AttemptRow.live.is_(False), AttemptRow.state.in_(DECIDED)),
        )
        .order_by(AttemptRow.id)
    )
    if not excepted:
        statement = statement.where(~AttemptRow.left_out)
    rows = await fetch_all(connection, statement, Decided)
    names = sorted({name for row in rows for name in row["facts"]})
    facts = {name: [str(row["facts"].get(name, NO_VALUE)) for row in rows] for name in names}
    facts.setdefault("link", [row["link"] for row in rows])
    return facts, [row["bad"] for row in rows]
