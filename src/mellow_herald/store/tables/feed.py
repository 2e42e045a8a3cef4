"""What goes out of the service: events, webhooks, and the journal."""

from datetime import datetime
from typing import Any

from sqlalchemy import (
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class ClockRow(Base):
    """The one row that relates service time to real time, and the service's pulse."""

    __tablename__ = "clock"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    scale: Mapped[float]
    real_epoch: Mapped[datetime]
    service_epoch: Mapped[datetime]
    beat_real: Mapped[datetime]
    beat_service: Mapped[datetime]
    serving_since: Mapped[datetime]
    # Until when it had served before that, since the last time it was away; both are service time.
    away_from: Mapped[datetime | None]
    database_since: Mapped[datetime | None]
    # Of the last beat: ticks since the machine's start, and which start that was; how far ahead its clock is.
    beat_ticks: Mapped[float | None]
    beat_boot: Mapped[str | None]
    ahead_s: Mapped[float]
    rests: Mapped[bool]


class Outbox(Base):
    """The event feed. ``sealed`` is given by the sealer in commit order; readers go by it alone."""

    __tablename__ = "outbox"
    id: Mapped[int] = mapped_column(primary_key=True)
    sealed: Mapped[int | None] = mapped_column(unique=True)
    at: Mapped[datetime]
    kind: Mapped[str]
    rollout_id: Mapped[int | None]
    device_id: Mapped[int | None]
    attempt_id: Mapped[int | None]
    data: Mapped[dict[str, Any]]
    __table_args__ = (
        Index("ix_outbox_unsealed", "id", postgresql_where=text("sealed IS NULL")),
        Index("ix_outbox_of_rollouts", "rollout_id", "sealed", postgresql_where=text("kind = 'rollout'")),
    )


class Webhook(Base):
    """An address that events are sent to. ``cursor`` is the newest event that was looked at for it."""

    __tablename__ = "webhook"
    id: Mapped[int] = mapped_column(primary_key=True)
    url: Mapped[str]
    secret: Mapped[str]
    kinds: Mapped[list[Any]]
    headers: Mapped[dict[str, Any]]
    note: Mapped[str]
    made_by: Mapped[str]
    made_at: Mapped[datetime]
    closed_at: Mapped[datetime | None]
    cursor: Mapped[int]
    delivered: Mapped[int]
    delivered_at: Mapped[datetime | None]


class Delivery(Base):
    """An event that a webhook has not taken yet; ``dead`` once it is not tried again by itself."""

    __tablename__ = "delivery"
    id: Mapped[int] = mapped_column(primary_key=True)
    webhook_id: Mapped[int] = mapped_column(ForeignKey("webhook.id"))
    event: Mapped[int]
    body: Mapped[dict[str, Any]]
    dead: Mapped[bool]
    tries: Mapped[int] = mapped_column(Integer)
    made_at: Mapped[datetime]
    next_at: Mapped[datetime]
    failure: Mapped[str]
    __table_args__ = (
        UniqueConstraint("webhook_id", "event"),
        Index("ix_delivery_due", "next_at", postgresql_where=text("NOT dead")),
    )


class JournalRow(Base):
    """The journal. ``link`` and ``hash`` are given by the sealer; an entry never changes."""

    __tablename__ = "journal"
    id: Mapped[int] = mapped_column(primary_key=True)
    link: Mapped[int | None] = mapped_column(unique=True)
    hash: Mapped[str | None]
    at: Mapped[datetime]
    who: Mapped[str]
    what: Mapped[str]
    subject: Mapped[str]
    why: Mapped[str]
    data: Mapped[dict[str, Any]]
    __table_args__ = (
        Index("ix_journal_unsealed", "id", postgresql_where=text("link IS NULL")),
        Index("ix_journal_subject", "subject"),
    )
