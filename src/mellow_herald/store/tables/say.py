"""What people say about rollouts: approvals, and what was heard outside."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Integer, SmallInteger, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class ApprovalRow(Base):
    """A person's yes to a ring in a round, with what they were ``shown``; ``void_why`` says why it counts no more."""

    __tablename__ = "approval"
    id: Mapped[int] = mapped_column(primary_key=True)
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), index=True)
    position: Mapped[int] = mapped_column(SmallInteger)
    round: Mapped[int] = mapped_column(Integer)
    at: Mapped[datetime]
    by: Mapped[str]
    reason: Mapped[str]
    shown: Mapped[dict[str, Any]]
    void_why: Mapped[str | None]


class EvidenceRow(Base):
    """Something heard outside about a rollout, of a device or of none. ``exposed`` tells whether that device had the
    release then; ``source`` and ``source_id`` name the CloudEvent that brought it."""

    __tablename__ = "evidence"
    id: Mapped[int] = mapped_column(primary_key=True)
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), index=True)
    device_id: Mapped[int | None] = mapped_column(ForeignKey("device.id"))
    exposed: Mapped[bool]
    kind: Mapped[str]
    text: Mapped[str]
    at: Mapped[datetime]
    filed_by: Mapped[str]
    source: Mapped[str | None]
    source_id: Mapped[str | None]
    acknowledged_at: Mapped[datetime | None]
    acknowledged_by: Mapped[str | None]
    acknowledged_why: Mapped[str | None]
    unrelated: Mapped[bool]
    withdrawn_at: Mapped[datetime | None]
    withdrawn_by: Mapped[str | None]
    withdrawn_why: Mapped[str | None]
    __table_args__ = (UniqueConstraint("source", "source_id"),)
