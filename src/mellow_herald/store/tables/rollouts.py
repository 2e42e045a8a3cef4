"""Rollouts, their rings, and their attempts."""

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    UniqueConstraint,
    false,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.core.attempt import State
from mellow_herald.core.rollout import Outcome, RingState, RolloutKind, RolloutState
from mellow_herald.store.tables.base import Base, one_of


class Rollout(Base):
    """A release brought to devices by a plan. ``target`` is the plan's with selections put in; ``revision`` counts
    edits of the plan, ``plan_digest`` is that of the one it was started with; ``round_at`` is when the round ``round``
    began, at the start or the last resume after a halt; ``watch`` how its brakes divide evidence. A rollback
    (``rolls_back`` names the rollout) brings devices back from the release to what they came from; ``scope`` says which
    of them. ``outcome`` is what it came to, ``halted_why`` why it was last halted, whatever came of it later. Where two
    releases are compared, ``second_release_id`` names the other; ``chosen`` is the position of the one that was chosen
    for the rest."""

    __tablename__ = "rollout"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    release_id: Mapped[int] = mapped_column(ForeignKey("release.id"), index=True)
    second_release_id: Mapped[int | None] = mapped_column(ForeignKey("release.id"), index=True)
    chosen: Mapped[int | None] = mapped_column(SmallInteger)
    plan: Mapped[dict[str, Any]]
    target: Mapped[str]
    revision: Mapped[int] = mapped_column(Integer)
    plan_digest: Mapped[str | None]
    overtakes: Mapped[bool]
    state: Mapped[str]
    reason: Mapped[str | None]
    created_by: Mapped[str]
    created_at: Mapped[datetime]
    started_at: Mapped[datetime | None]
    round_at: Mapped[datetime | None]
    round: Mapped[int] = mapped_column(Integer)
    watch: Mapped[dict[str, Any]]
    kind: Mapped[str]
    rolls_back: Mapped[int | None] = mapped_column(ForeignKey("rollout.id"), index=True)
    scope: Mapped[dict[str, Any]]
    ended_at: Mapped[datetime | None]
    halt_number: Mapped[int | None]
    halted_why: Mapped[str | None]
    outcome: Mapped[str | None]
    targeted: Mapped[int]
    request_key: Mapped[str | None] = mapped_column(unique=True)
    __table_args__ = (
        one_of("state", RolloutState),
        one_of("kind", RolloutKind),
        one_of("outcome", Outcome),
        Index("ix_rollout_live", "id", postgresql_where=text("ended_at IS NULL")),
    )


class RingRow(Base):
    """One ring of a rollout. ``planned`` is how many devices it was to have when it was planned; ``go_at`` when
    somebody said go, ``asks`` what it asks of people, ``asks_why`` why; ``stands_why`` why it stands still. Somebody
    may let it go on all the same: in ``anyway_round``, with ``anyway_bad`` devices of it bad."""

    __tablename__ = "ring"
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), primary_key=True)
    position: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    name: Mapped[str]
    state: Mapped[str]
    planned: Mapped[int]
    go_at: Mapped[datetime | None]
    asks: Mapped[str | None]
    asks_why: Mapped[str | None]
    stands_why: Mapped[str | None]
    anyway_bad: Mapped[int | None]
    anyway_round: Mapped[int | None] = mapped_column(Integer)
    opened_at: Mapped[datetime | None]
    soak_until: Mapped[datetime | None]
    done_at: Mapped[datetime | None]
    __table_args__ = (one_of("state", RingState),)


class HarmWave(Base):
    """A wave of a rollout's harm budget, as it was when it began; ``by_value`` lists fact, value, and how many devices
    of it the wave may hold."""

    __tablename__ = "harm_wave"
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), primary_key=True)
    number: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    began_at: Mapped[datetime]
    size: Mapped[int]
    room: Mapped[int]
    rate: Mapped[float]
    by_value: Mapped[list[Any]]
    of_new: Mapped[int]
    hurt: Mapped[int]
    decided: Mapped[int]


class RingSlice(Base):
    """Up to 10,000 of the devices that a ring is to have, drawn when the rollout was planned; ``second`` are those of
    them that get the second of two releases by lot."""

    __tablename__ = "ring_slice"
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), primary_key=True)
    position: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    number: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    devices: Mapped[list[int]] = mapped_column(ARRAY(BigInteger))
    second: Mapped[list[int] | None] = mapped_column(ARRAY(BigInteger))
    given: Mapped[bool]


class PassedOverRow(Base):
    """A targeted device that gets no attempt, and why."""

    __tablename__ = "passed_over"
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id"), primary_key=True)
    reason: Mapped[str]


class AttemptRow(Base):
    """One device's passage through one rollout; the columns are those of ``core.attempt.Attempt``, and besides:
    ``cluster`` names the common cause by which it went bad together with others (they have one vote), ``before`` keeps
    readings and settings as they were before the switch; ``came_from`` is what the device ran of every component, where
    the release has more than ``app``; ``back_to`` (digests by component) and ``back_release_id`` are the images and the
    release that a rollback brings the device to; ``left_out`` tells that a resume went on without it; ``wave`` is that
    of the harm budget in which it was first given leave; ``evidence_at`` is since when outside evidence speaks against
    it; ``release_id`` is the release that it brings, where that is not its rollout's; ``lot`` which of two compared
    releases (0, 1) the device got by lot."""

    __tablename__ = "attempt"
    id: Mapped[int] = mapped_column(primary_key=True)
    # No foreign keys: neither devices, rollouts nor releases that were published are ever deleted, and the check of
    # each new row, which locks the row it refers to, would take half of the time in which a large ring opens.
    rollout_id: Mapped[int]
    device_id: Mapped[int]
    ring: Mapped[int] = mapped_column(SmallInteger)
    from_version: Mapped[str | None]
    from_digest: Mapped[str | None]
    came_from: Mapped[dict[str, Any]]
    facts: Mapped[dict[str, Any]]
    parts: Mapped[dict[str, Any]]
    created_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    live: Mapped[bool]
    state: Mapped[str]
    reason: Mapped[str | None]
    try_number: Mapped[int] = mapped_column(Integer)
    tries: Mapped[int] = mapped_column(Integer)
    soak_s: Mapped[int] = mapped_column(Integer)
    retry_pause_s: Mapped[int] = mapped_column(Integer)
    last_boots: Mapped[int | None]
    last_seq: Mapped[int | None]
    step: Mapped[str | None]
    percent: Mapped[int | None] = mapped_column(SmallInteger)
    rate: Mapped[int | None]
    waiting_for: Mapped[str | None]
    waiting_until: Mapped[datetime | None]
    offered_at: Mapped[datetime | None]
    exposed_at: Mapped[datetime | None]
    confirmed_at: Mapped[datetime | None]
    soak_until: Mapped[datetime | None]
    retry_at: Mapped[datetime | None]
    clearance: Mapped[int | None]
    clearance_until: Mapped[datetime | None]
    undelivered_at: Mapped[datetime | None]
    undelivered_why: Mapped[str | None]
    harmed_at: Mapped[datetime | None]
    harmed_why: Mapped[str | None]
    first_bad_at: Mapped[datetime | None]
    first_bad_why: Mapped[str | None]
    first_bad_try: Mapped[int | None] = mapped_column(Integer)
    fetched: Mapped[int] = mapped_column(SmallInteger)
    unasked_at: Mapped[datetime | None]
    waiting_since: Mapped[datetime | None]
    retry_bad: Mapped[bool]
    installs: Mapped[int] = mapped_column(Integer)
    vouched: Mapped[bool]
    leave_unknown: Mapped[bool] = mapped_column(server_default=false())
    cluster: Mapped[str | None]
    before: Mapped[dict[str, Any]]
    back_to: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    back_release_id: Mapped[int | None]
    closed: Mapped[bool]
    left_out: Mapped[bool]
    wave: Mapped[int | None] = mapped_column(Integer)
    evidence_at: Mapped[datetime | None]
    release_id: Mapped[int | None]
    lot: Mapped[int | None] = mapped_column(SmallInteger)
    __table_args__ = (
        one_of("state", State),
        UniqueConstraint("device_id", "rollout_id"),
        CheckConstraint("NOT (live AND closed)", name="live_or_closed"),
        # A device is in at most one live attempt.
        Index("uq_attempt_one_live", "device_id", unique=True, postgresql_where=text("live")),
        Index("ix_attempt_rollout_state", "rollout_id", "ring", "state"),
        Index(
            "ix_attempt_bad",
            "rollout_id",
            postgresql_where=text("harmed_at IS NOT NULL OR undelivered_at IS NOT NULL OR evidence_at IS NOT NULL"),
        ),
        Index("ix_attempt_silent", "device_id", postgresql_where=text("state = 'silent'")),
        Index("ix_attempt_wave", "rollout_id", "wave", postgresql_where=text("wave IS NOT NULL")),
        Index("ix_attempt_first_bad", "rollout_id", postgresql_where=text("first_bad_at IS NOT NULL")),
        {"postgresql_with": {"fillfactor": "80"}},
    )


class Tally(Base):
    """How much the counts of a rollout's ring changed by something that happened: triggers on ``attempt`` append the
    lines, their sums are the counts. ``percents`` is how much of its image each ever had, in %, ``unasked`` are those
    that switched without clearance, ``ever_bad`` those that went bad, whatever became of them."""

    __tablename__ = "tally"
    id: Mapped[int] = mapped_column(primary_key=True)
    rollout_id: Mapped[int] = mapped_column(index=True)
    ring: Mapped[int] = mapped_column(SmallInteger)
    state: Mapped[str]
    reason: Mapped[str | None]
    waiting_for: Mapped[str | None]
    left_out: Mapped[bool]
    first_bad_why: Mapped[str | None]
    attempts: Mapped[int]
    exposed: Mapped[int]
    live: Mapped[int]
    ever_bad: Mapped[int]
    percents: Mapped[int]
    unasked: Mapped[int]


class AttemptEvent(Base):
    """The timeline of an attempt, append-only."""

    __tablename__ = "attempt_event"
    id: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id"), index=True)
    at: Mapped[datetime]
    said_by: Mapped[str]
    what: Mapped[str]
    try_number: Mapped[int] = mapped_column(Integer)
    state: Mapped[str | None]
    reason: Mapped[str | None]
    step: Mapped[str | None]
    percent: Mapped[int | None] = mapped_column(SmallInteger)
    component: Mapped[str | None]
    detail: Mapped[str]
    tests: Mapped[list[Any]]
    log: Mapped[str]


class Settlement(Base):
    """An attempt that stood wrong, and was settled after the fact by what its device had last said."""

    __tablename__ = "settlement"
    id: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id"))
    at: Mapped[datetime]
    state_before: Mapped[str]
    reason_before: Mapped[str | None]
    state: Mapped[str]
    reason: Mapped[str | None]
    why: Mapped[str]
