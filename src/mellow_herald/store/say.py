"""What people say about rollouts: approvals, and what was heard outside."""

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypedDict

from sqlalchemy import Select, and_, exists, func, insert, or_, select, update
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.ext.asyncio import AsyncConnection

from mellow_herald.store.database import fetch_all, fetch_one
from mellow_herald.store.rings import Target
from mellow_herald.store.selector_sql import compile_selector
from mellow_herald.store.tables import (
    ApprovalRow,
    AttemptRow,
    Device,
    EvidenceRow,
    JournalRow,
    PassedOverRow,
    Person,
)


class StoredApproval(TypedDict):
    """A row of ``tables.ApprovalRow``."""

    id: int
    rollout_id: int
    position: int
    round: int
    at: datetime
    by: str
    reason: str
    shown: dict[str, Any]
    void_why: str | None


class ShownEvidence(TypedDict):
    """A row of ``tables.EvidenceRow`` with the device's serial."""

    id: int
    rollout_id: int
    device_id: int | None
    serial: str | None
    exposed: bool
    kind: str
    text: str
    at: datetime
    filed_by: str
    source: str | None
    source_id: str | None
    acknowledged_at: datetime | None
    acknowledged_by: str | None
    acknowledged_why: str | None
    unrelated: bool
    withdrawn_at: datetime | None
    withdrawn_by: str | None
    withdrawn_why: str | None


class Heard(TypedDict):
    """How many devices that have the release are named, and how many that do not; how many pieces wait for somebody."""

    named: int
    named_others: int
    unseen: int
    withdrawn: int


class Place(TypedDict):
    """Where a device stands in a rollout; ``exposed`` whether it has, or had, the release."""

    device_id: int
    exposed: bool


NOTHING = Heard(named=0, named_others=0, unseen=0, withdrawn=0)
STANDS = EvidenceRow.withdrawn_at.is_(None)
UNSEEN = and_(STANDS, EvidenceRow.device_id.is_(None), EvidenceRow.acknowledged_at.is_(None))


async def add_evidence(connection: AsyncConnection, row: dict[str, Any]) -> int | None:
    """Writes down what was heard; returns its number, None if the same event was filed meanwhile."""
    statement = upsert(EvidenceRow).values(unrelated=False, **row).on_conflict_do_nothing().returning(EvidenceRow.id)
    return (await connection.execute(statement)).scalar()


def _shown() -> Select[Any]:
    return select(EvidenceRow.__table__, Device.serial).outerjoin(Device, Device.id == EvidenceRow.device_id)


async def list_evidence(connection: AsyncConnection, rollout_id: int, limit: int = 1000) -> Sequence[ShownEvidence]:
    """What was heard about a rollout, the newest first."""
    statement = _shown().where(EvidenceRow.rollout_id == rollout_id).order_by(EvidenceRow.id.desc()).limit(limit)
    return await fetch_all(connection, statement, ShownEvidence)


async def find_evidence(connection: AsyncConnection, evidence_id: int) -> ShownEvidence | None:
    """One piece of it; locked until the transaction ends."""
    statement = _shown().where(EvidenceRow.id == evidence_id).with_for_update(of=EvidenceRow)
    return await fetch_one(connection, statement, ShownEvidence)


async def find_sent(connection: AsyncConnection, source: str, source_id: str) -> ShownEvidence | None:
    """What a CloudEvent has brought before."""
    statement = _shown().where(EvidenceRow.source == source, EvidenceRow.source_id == source_id)
    return await fetch_one(connection, statement, ShownEvidence)


async def change_evidence(connection: AsyncConnection, evidence_id: int, **values: Any) -> None:
    """Writes what became of it."""
    await connection.execute(update(EvidenceRow).where(EvidenceRow.id == evidence_id).values(**values))


async def count_heard(connection: AsyncConnection, ids: Sequence[int]) -> dict[int, Heard]:
    """What was heard about these rollouts, counted; one about which nothing was is left out."""
    statement = (
        select(
            EvidenceRow.rollout_id,
            func.count(func.distinct(EvidenceRow.device_id)).filter(STANDS, EvidenceRow.exposed).label("named"),
            func.count(func.distinct(EvidenceRow.device_id)).filter(STANDS, ~EvidenceRow.exposed).label("named_others"),
            func.count().filter(UNSEEN).label("unseen"),
            func.count().filter(~STANDS).label("withdrawn"),
        )
        .where(EvidenceRow.rollout_id.in_(list(ids)))
        .group_by(EvidenceRow.rollout_id)
    )
    rows = await connection.execute(statement)
    return {row.rollout_id: Heard(**{name: row._mapping[name] for name in NOTHING}) for row in rows}  # type: ignore[typeddict-item]


async def place_of(
    connection: AsyncConnection, rollout_id: int, serial: str, target: Target, now: datetime
) -> Place | None:
    """Where a device stands in a rollout: with an attempt, or of its target and not passed over; None if it is not of
    it."""
    passed_over = exists(select(1).where(PassedOverRow.rollout_id == rollout_id, PassedOverRow.device_id == Device.id))
    to_come = and_(func.coalesce(compile_selector(target.where, now), False), ~passed_over)
    statement = (
        select(Device.id.label("device_id"), AttemptRow.exposed_at.is_not(None).label("exposed"))
        .outerjoin(AttemptRow, and_(AttemptRow.device_id == Device.id, AttemptRow.rollout_id == rollout_id))
        .where(Device.serial == serial, or_(AttemptRow.id.is_not(None), to_come))
    )
    return await fetch_one(connection, statement, Place)


async def rollouts_of_device(connection: AsyncConnection, serial: str, limit: int = 10) -> list[int] | None:
    """The rollouts in which a device has an attempt, the newest first; None if there is no such device."""
    device = await connection.scalar(select(Device.id).where(Device.serial == serial))
    if device is None:
        return None
    statement = (
        select(AttemptRow.rollout_id)
        .where(AttemptRow.device_id == device)
        .order_by(AttemptRow.rollout_id.desc())
        .limit(limit)
    )
    return list(await connection.scalars(statement))


async def note_on_attempt(connection: AsyncConnection, rollout_id: int, device_id: int) -> None:
    """Writes down, with a device's attempt, since when outside evidence that stands speaks against it."""
    since = select(func.min(EvidenceRow.at)).where(
        EvidenceRow.rollout_id == rollout_id, EvidenceRow.device_id == device_id, EvidenceRow.exposed, STANDS
    )
    statement = update(AttemptRow).where(AttemptRow.rollout_id == rollout_id, AttemptRow.device_id == device_id)
    await connection.execute(statement.values(evidence_at=since.scalar_subquery()))


async def add_approval(connection: AsyncConnection, row: dict[str, Any]) -> None:
    """Writes down a yes."""
    await connection.execute(insert(ApprovalRow).values(**row))


async def list_approvals(connection: AsyncConnection, rollout_id: int) -> Sequence[StoredApproval]:
    """A rollout's approvals, in order."""
    statement = select(ApprovalRow.__table__).where(ApprovalRow.rollout_id == rollout_id).order_by(ApprovalRow.id)
    return await fetch_all(connection, statement, StoredApproval)


async def approved(connection: AsyncConnection, rollout_id: int, round_: int) -> frozenset[int]:
    """The positions of the rings that have an approval that counts in this round."""
    statement = select(ApprovalRow.position).where(
        ApprovalRow.rollout_id == rollout_id, ApprovalRow.round == round_, ApprovalRow.void_why.is_(None)
    )
    return frozenset(await connection.scalars(statement))


async def void_approvals(connection: AsyncConnection, rollout_id: int, first: int, why: str) -> None:
    """Takes the approvals of the rings from this position on back."""
    statement = update(ApprovalRow).where(
        ApprovalRow.rollout_id == rollout_id, ApprovalRow.position >= first, ApprovalRow.void_why.is_(None)
    )
    await connection.execute(statement.values(void_why=why))


async def who_wrote(connection: AsyncConnection, rollout_id: int) -> set[str]:
    """Who has changed the plan of a rollout."""
    statement = select(JournalRow.who).where(
        JournalRow.subject == f"rollout {rollout_id}", JournalRow.what == "rollout plan changed"
    )
    return set(await connection.scalars(statement))


async def count_able(connection: AsyncConnection, roles: Sequence[str], but: set[str]) -> int:
    """How many people have one of these roles, without those of these names."""
    statement = (
        select(func.count())
        .select_from(Person)
        .where(Person.closed_at.is_(None), Person.roles.overlap(list(roles)), Person.name.not_in(but))
    )
    return int(await connection.scalar(statement) or 0)
