"""When a device was hurt: by its own word, the service's, or what was heard outside."""

from sqlalchemy import func, or_, select
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.tables import AttemptRow

# NULL if it never was. What is heard outside can be withdrawn; the rest stays for good.
HURT_AT = func.least(AttemptRow.harmed_at, AttemptRow.evidence_at)
IS_HURT = or_(AttemptRow.harmed_at.is_not(None), AttemptRow.evidence_at.is_not(None))


async def count_hurt(connection: AsyncConnection, rollout_id: int) -> int:
    """How many devices of a rollout were hurt: by their own word, the service's, or by what was heard outside."""
    statement = select(func.count()).where(AttemptRow.rollout_id == rollout_id, IS_HURT)
    return int(await connection.scalar(statement) or 0)
