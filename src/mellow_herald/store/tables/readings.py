"""Readings over time: signals, who listens to whom, and what has come."""

from datetime import datetime
from typing import Any

from sqlalchemy import REAL, BigInteger, Double, ForeignKey, Index, Integer, Text, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.core.readings.recording import RecordingState
from mellow_herald.core.readings.signal import SignalKind
from mellow_herald.store.tables.base import Base, one_of


class SignalRow(Base):
    """A signal of a board: declared with the board, or undeclared, which a device has sent. ``size`` is what a value
    costs on the way (bytes); ``precise``: its values are kept with 15 digits, not 7; ``keep_s`` for how long each is
    kept, if not as long as the others."""

    __tablename__ = "signal"
    __table_args__ = (UniqueConstraint("board", "name"), one_of("kind", SignalKind))
    id: Mapped[int] = mapped_column(Integer, primary_key=True)
    board: Mapped[str] = mapped_column(ForeignKey("board.name", ondelete="CASCADE"))
    name: Mapped[str]
    kind: Mapped[str]
    unit: Mapped[str]
    usual_low: Mapped[float | None]
    usual_high: Mapped[float | None]
    description: Mapped[str]
    size: Mapped[int] = mapped_column(Integer)
    precise: Mapped[bool]
    keep_s: Mapped[int | None]
    declared: Mapped[bool]
    first_at: Mapped[datetime]


class Listening(Base):
    """What devices that a selector picks are asked to send. It is over at ``until``, or when somebody ends it."""

    __tablename__ = "listening"
    id: Mapped[int] = mapped_column(primary_key=True)
    selector: Mapped[str]
    signals: Mapped[list[Any]]
    period_s: Mapped[float]
    until: Mapped[datetime] = mapped_column(index=True)
    made_by: Mapped[str]
    made_at: Mapped[datetime]
    ended_by: Mapped[str | None]
    ended_at: Mapped[datetime | None]
    read_at: Mapped[datetime | None]
    trouble: Mapped[str] = mapped_column(server_default=text("''"))


class ListeningDevice(Base):
    """A device that a listening asks, since when."""

    __tablename__ = "listening_device"
    __table_args__ = (Index(None, "device_id"),)
    listening_id: Mapped[int] = mapped_column(ForeignKey("listening.id", ondelete="CASCADE"), primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    since: Mapped[datetime]


class DeviceSignal(Base):
    """A signal that a device has sent: its newest value, by its time and by when it arrived."""

    __tablename__ = "device_signal"
    __table_args__ = (Index(None, "signal_id"),)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    signal_id: Mapped[int] = mapped_column(Integer, ForeignKey("signal.id", ondelete="CASCADE"), primary_key=True)
    first_at: Mapped[datetime]
    last_at: Mapped[datetime]
    arrived_at: Mapped[datetime]
    value: Mapped[float | None]
    text: Mapped[str | None]


class ReadingClock(Base):
    """By how much (s) the clock of a device that sends readings is behind the service's; and what collecting costs it,
    as it says."""

    __tablename__ = "reading_clock"
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    offset_s: Mapped[float]
    offset_at: Mapped[datetime]
    cost: Mapped[dict[str, Any]]


class ReadingLanded(Base):
    """Values as they have come, before they are put together: part of a minute of one signal of one device. ``offsets``
    are ms after ``at``; there are ``vals`` (NULL: none, they are words) or ``texts``."""

    __tablename__ = "reading_landed"
    __table_args__ = (Index(None, "device_id", "signal_id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    device_id: Mapped[int]
    signal_id: Mapped[int] = mapped_column(Integer)
    at: Mapped[datetime]
    offsets: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    vals: Mapped[list[float] | None] = mapped_column(ARRAY(Double))
    texts: Mapped[list[str] | None] = mapped_column(ARRAY(Text))


class ReadingChunk(Base):
    """A minute of one signal of one device, whole: ``vals``, or ``doubles`` where the signal is precise, or ``texts``.
    Days are partitions, made when something comes for them and dropped whole."""

    __tablename__ = "reading_chunk"
    __table_args__ = (Index(None, "at", postgresql_using="brin"), {"postgresql_partition_by": "RANGE (at)"})
    device_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    signal_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    offsets: Mapped[list[int]] = mapped_column(ARRAY(Integer))
    vals: Mapped[list[float] | None] = mapped_column(ARRAY(REAL))
    doubles: Mapped[list[float] | None] = mapped_column(ARRAY(Double))
    texts: Mapped[list[str] | None] = mapped_column(ARRAY(Text))


class _Rolled:
    """What is kept of the numbers of a stretch of time."""

    device_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    signal_id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    count: Mapped[int] = mapped_column(Integer)
    least: Mapped[float]
    most: Mapped[float]
    mean: Mapped[float]
    last: Mapped[float]


class ReadingMinute(_Rolled, Base):
    """Of a minute."""

    __tablename__ = "reading_minute"
    __table_args__ = ({"postgresql_partition_by": "RANGE (at)"},)


class ReadingHour(_Rolled, Base):
    """Of an hour."""

    __tablename__ = "reading_hour"
    __table_args__ = ({"postgresql_partition_by": "RANGE (at)"},)


class Recording(Base):
    """A stretch (``begins`` to ``ends``) that a device is asked to send as it kept it, at full rate; of all signals
    where none is named. ``offset_s``: by how much its clock is behind. ``size``, ``sha256`` and ``said`` (how many
    values) are what it announced; ``have`` bytes are there."""

    __tablename__ = "recording"
    __table_args__ = (Index(None, "device_id"), one_of("state", RecordingState))
    id: Mapped[int] = mapped_column(primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"))
    begins: Mapped[datetime]
    ends: Mapped[datetime]
    signals: Mapped[list[Any]]
    at_most: Mapped[int]
    asked_by: Mapped[str]
    asked_at: Mapped[datetime]
    state: Mapped[str]
    offset_s: Mapped[float]
    size: Mapped[int | None]
    sha256: Mapped[str | None]
    samples: Mapped[int | None]
    have: Mapped[int] = mapped_column(server_default=text("0"))
    tries: Mapped[int] = mapped_column(Integer, server_default=text("0"))
    moved_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None] = mapped_column(index=True)
    reason: Mapped[str] = mapped_column(server_default=text("''"))
    detail: Mapped[str] = mapped_column(server_default=text("''"))
    contains: Mapped[list[Any]] = mapped_column(server_default=text("'[]'"))


class RecordingPart(Base):
    """Bytes of a recording, from ``at`` on."""

    __tablename__ = "recording_part"
    recording_id: Mapped[int] = mapped_column(ForeignKey("recording.id", ondelete="CASCADE"), primary_key=True)
    at: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    body: Mapped[bytes]


class ChartPageRow(Base):
    """Rows of signals that a person keeps to look at together: ``document`` is ``wire.charts.ChartPageDocument``."""

    __tablename__ = "chart_page"
    __table_args__ = (UniqueConstraint("person_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    name: Mapped[str]
    shared: Mapped[bool]
    document: Mapped[dict[str, Any]]
    edition: Mapped[int] = mapped_column(Integer)
    made_at: Mapped[datetime]
    changed_at: Mapped[datetime]


class SeriesStyleRow(Base):
    """How a series looks to a person; of every signal where ``signal`` is empty."""

    __tablename__ = "series_style"
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), primary_key=True)
    signal: Mapped[str] = mapped_column(primary_key=True)
    series: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str | None]
    colour: Mapped[str | None]
