"""Rehearsals of plans."""

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import Integer
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base, one_of


class RehearsalState(StrEnum):
    """Where a rehearsal stands."""

    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"


class RehearsalRow(Base):
    """A rehearsal that was asked for. ``plan_digest`` is that of its plan, by which rollouts of the same plan find it;
    ``asked_at`` and ``ended_at`` are service time, ``beat_at`` is when its process was last heard of, in real time."""

    __tablename__ = "rehearsal"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    plan: Mapped[dict[str, Any]]
    plan_digest: Mapped[str] = mapped_column(index=True)
    faults: Mapped[list[Any]]
    runs: Mapped[int] = mapped_column(Integer)
    seed: Mapped[int]
    people_s: Mapped[int]
    asked_by: Mapped[str]
    asked_at: Mapped[datetime]
    state: Mapped[str]
    progress: Mapped[float]
    beat_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    why: Mapped[str | None]
    result: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    __table_args__ = (one_of("state", RehearsalState),)
