"""Devices on narrow radio, the sessions in which groups of them are sent a release, and how far each has got."""

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Index, Integer, SmallInteger, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class RadioDevice(Base):
    """What the service must know of a device to reach it by radio. ``root_key`` is sealed with the data folder's key.

    ``session_count`` is the number of its last session: it only rises, since a device takes none twice. ``boots``,
    ``seq`` and ``spoken`` number what is said for it between two of its own words. ``lost`` is what it lost in its last
    session, a share, in bursts of so many fragments (``burst``).
    """

    __tablename__ = "radio_device"
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    eui: Mapped[str] = mapped_column(unique=True)
    region: Mapped[str]
    device_class: Mapped[str]
    lorawan: Mapped[str]
    interval_s: Mapped[int] = mapped_column(Integer)
    ports: Mapped[dict[str, Any]]
    packages: Mapped[dict[str, Any]]
    most_fragment: Mapped[int | None] = mapped_column(SmallInteger)
    root_key: Mapped[bytes | None]
    key_proved_at: Mapped[datetime | None]
    session_count: Mapped[int] = mapped_column(Integer, server_default=text("0"))
    boots: Mapped[int] = mapped_column(server_default=text("0"))
    seq: Mapped[int] = mapped_column(server_default=text("0"))
    spoken: Mapped[int] = mapped_column(Integer, server_default=text("0"))
    clock_at: Mapped[datetime | None]
    lost: Mapped[float | None]
    burst: Mapped[float | None]
    heard_at: Mapped[datetime | None]
    rssi: Mapped[int | None] = mapped_column(SmallInteger)
    data_rate: Mapped[int | None] = mapped_column(SmallInteger)
    changed_at: Mapped[datetime]


class RadioSession(Base):
    """One transmission of a release to a group. ``next_counter`` is the first frame counter that is not taken yet; it
    is written down before any of those below it is sent. ``group_key`` is sealed like a device's. A repair for devices
    that have most of the block begins with fragment ``first_number``, with parity that was not sent before; they are
    asked how they stand after ``ask_after`` fragments for the first time. ``postponed`` is how often it was put off
    because nobody was ready that it could bring anything."""

    __tablename__ = "radio_session"
    id: Mapped[int] = mapped_column(primary_key=True)
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id", ondelete="CASCADE"))
    repair_of: Mapped[int | None] = mapped_column(ForeignKey("radio_session.id"))
    state: Mapped[str]
    manifest: Mapped[str]
    region: Mapped[str]
    data_rate: Mapped[int] = mapped_column(SmallInteger)
    frequency: Mapped[int]
    fragment: Mapped[int] = mapped_column(SmallInteger)
    redundancy: Mapped[int] = mapped_column(SmallInteger)
    fragments: Mapped[int] = mapped_column(Integer)
    coded: Mapped[int] = mapped_column(Integer)
    first_number: Mapped[int] = mapped_column(Integer)
    ask_after: Mapped[int] = mapped_column(Integer)
    on_air_s: Mapped[float]
    apart_s: Mapped[float]
    time_out: Mapped[int] = mapped_column(SmallInteger)
    spread: Mapped[int] = mapped_column(SmallInteger)
    address: Mapped[int]
    group_key: Mapped[bytes]
    next_counter: Mapped[int]
    sent: Mapped[int] = mapped_column(Integer)
    answers_until: Mapped[datetime | None]
    asked_after: Mapped[int | None] = mapped_column(Integer)
    ask_next_after: Mapped[int | None] = mapped_column(Integer)
    expected_s: Mapped[float]
    expected_share: Mapped[float]
    planned_at: Mapped[datetime]
    begins_at: Mapped[datetime]
    began_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    outcome: Mapped[str | None]
    postponed: Mapped[int] = mapped_column(SmallInteger, server_default=text("0"))
    trouble: Mapped[str] = mapped_column(server_default=text("''"))
    __table_args__ = (
        CheckConstraint("state IN ('setting-up','sending','ended')", name="state"),
        Index("ix_radio_session_rollout_id", "rollout_id"),
        # One address, one key: two sessions under way never share it.
        Index("ix_radio_session_address", "address", unique=True, postgresql_where=text("state <> 'ended'")),
    )


class RadioMember(Base):
    """A device in a session, as ``core.radio.member.Member`` has it. ``session_count`` is the session's number for this
    device; ``ready`` whether it was ready when the session began; ``told`` what it was told last, how often in
    a row is ``times``."""

    __tablename__ = "radio_member"
    session_id: Mapped[int] = mapped_column(ForeignKey("radio_session.id", ondelete="CASCADE"), primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))
    try_number: Mapped[int] = mapped_column(Integer)
    session_count: Mapped[int] = mapped_column(Integer)
    clock_at: Mapped[datetime | None]
    in_group: Mapped[bool]
    has_session: Mapped[bool]
    has_fragments: Mapped[bool]
    problem: Mapped[str]
    received: Mapped[int] = mapped_column(Integer)
    missing: Mapped[int | None] = mapped_column(Integer)
    lost: Mapped[int | None] = mapped_column(Integer)
    recovered: Mapped[int | None] = mapped_column(Integer)
    complete: Mapped[bool]
    ready: Mapped[bool | None]
    told: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    heard_at: Mapped[datetime | None]
    __table_args__ = (
        Index("ix_radio_member_device_id", "device_id"),
        Index("ix_radio_member_attempt_id", "attempt_id"),
    )


class RadioWish(Base):
    """A device that was told to fetch a release, which only a session can bring it."""

    __tablename__ = "radio_wish"
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id", ondelete="CASCADE"))
    try_number: Mapped[int] = mapped_column(Integer)
    manifest: Mapped[str]
    at: Mapped[datetime]


class RadioNetworkRow(Base):
    """The radio network that is followed: which run of it, and the number of the last uplink of that run that was dealt
    with. One row."""

    __tablename__ = "radio_network"
    id: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    url: Mapped[str]
    run: Mapped[str]
    uplinks: Mapped[int]
    region: Mapped[str]
    heard_at: Mapped[datetime | None]
    trouble: Mapped[str]
