"""Two releases compared: who is given which, and what became of them."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    DateTime,
    SmallInteger,
    SQLColumnExpression,
    Text,
    any_,
    case,
    false,
    func,
    literal,
    or_,
    select,
    update,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.core.arms import ARM, Compared
from mellow_herald.core.attempt import State
from mellow_herald.core.comparison import Came, Exposed
from mellow_herald.store.hurt import IS_HURT
from mellow_herald.store.progress import SOAK_WITNESSED
from mellow_herald.store.tables import AttemptRow, Device, Pulse


@dataclass(frozen=True, slots=True)
class Arms:
    """Of each device: which of two releases it gets by lot (NULL where the lot does not decide), the id of that where
    it is not the rollout's own, and what its arm is called."""

    lot: ColumnElement[int | None]
    release_id: ColumnElement[int | None]
    name: ColumnElement[str] | None = None

    def named(self, facts: SQLColumnExpression[Any]) -> SQLColumnExpression[Any]:
        """The facts that an attempt keeps of its device, with its arm among them."""
        if self.name is None:
            return facts
        return facts.concat(func.jsonb_build_object(literal(ARM, Text), self.name))


def arms_of(compared: Compared | None, second: Sequence[int] | None) -> Arms:
    """What devices are given, of which these get the ``second`` release by lot."""
    if compared is None:
        return Arms(literal(None, SmallInteger), literal(None, BigInteger))
    names = [literal(name, Text) for name in compared.names]
    if compared.chosen is not None:
        brings: ColumnElement[int | None] = literal(compared.second if compared.chosen else None, BigInteger)
        return Arms(literal(None, SmallInteger), brings, names[compared.chosen])
    drawn = Device.id == any_(literal(list(second or ()), ARRAY(BigInteger)))
    return Arms(
        case((drawn, literal(1, SmallInteger)), else_=literal(0, SmallInteger)),
        case((drawn, literal(compared.second, BigInteger)), else_=literal(None, BigInteger)),
        case((drawn, names[1]), else_=names[0]),
    )


async def given(connection: AsyncConnection, rollout_id: int) -> dict[int, int]:
    """How many devices were given each release by lot, by its position."""
    statement = (
        select(AttemptRow.lot, func.count().label("devices"))
        .where(AttemptRow.rollout_id == rollout_id, AttemptRow.lot.is_not(None))
        .group_by(AttemptRow.lot)
    )
    return {row.lot: row.devices for row in await connection.execute(statement)}


async def exposed_in_order(connection: AsyncConnection, rollout_id: int, until: datetime) -> list[Exposed]:
    """What had become, by ``until``, of the devices that were exposed to the release that they got by lot, in the order
    in which they were. Good is whoever ran it until its soak was over, and has called since; undecided until then. Who
    left it before that for no fault of its own, as in a rollback, tells nothing and is not among them."""
    stays = AttemptRow.state == State.CONFIRMED.value
    ran_until = case((stays, literal(until, DateTime(timezone=True))), else_=AttemptRow.changed_at)
    over = AttemptRow.confirmed_at.is_not(None) & (AttemptRow.soak_until <= ran_until)
    good = over & (~stays | func.coalesce(SOAK_WITNESSED, false()))
    came = case((IS_HURT, Came.BAD.value), (good, Came.GOOD.value), else_=Came.UNDECIDED.value)
    statement = (
        select(AttemptRow.lot, came.label("came"))
        .outerjoin(Pulse, Pulse.device_id == AttemptRow.device_id)
        .where(
            AttemptRow.rollout_id == rollout_id,
            AttemptRow.lot.is_not(None),
            AttemptRow.exposed_at.is_not(None),
            or_(IS_HURT, stays, good, AttemptRow.live),
        )
        .order_by(AttemptRow.exposed_at, AttemptRow.id)
    )
    return [Exposed(row.lot, Came(row.came)) for row in await connection.execute(statement)]


async def bring(connection: AsyncConnection, attempts: Sequence[int], compared: Compared) -> None:
    """Has attempts that never switched bring the release that was chosen, instead of the one that they got by lot."""
    chosen = arms_of(compared, None)
    statement = update(AttemptRow).where(AttemptRow.id == any_(literal(list(attempts), ARRAY(BigInteger))))
    await connection.execute(
        statement.values(release_id=chosen.release_id, lot=None, facts=chosen.named(AttemptRow.facts))
    )
