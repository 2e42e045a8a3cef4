"""Devices: who they are, what they run, what they said last, and what happened to them."""

from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class EnrolmentCode(Base):
    """Lets devices of one board and line in; only the code's SHA-256 is kept."""

    __tablename__ = "enrolment_code"
    id: Mapped[int] = mapped_column(primary_key=True)
    code_hash: Mapped[str] = mapped_column(unique=True)
    board: Mapped[str] = mapped_column(ForeignKey("board.name"))
    line: Mapped[str]
    labels: Mapped[dict[str, Any]]
    ask: Mapped[bool]
    uses: Mapped[int]
    used: Mapped[int]
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    __table_args__ = (CheckConstraint("used <= uses", name="used"),)


class CodeSlice(Base):
    """A part of a code's uses, counted by itself: of a fleet that enrols in one moment each device takes a part that
    nobody has at the time. What was ``used`` before there were slices is on the code."""

    __tablename__ = "code_slice"
    code_id: Mapped[int] = mapped_column(ForeignKey("enrolment_code.id"), primary_key=True)
    slice: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    uses: Mapped[int]
    used: Mapped[int]
    __table_args__ = (CheckConstraint("used <= uses", name="used"),)


class Device(Base):
    """A device: who it is and what it runs. Wide and rarely written; what changes often is in ``pulse``.

    ``version_keys`` has the version key of every component it runs, in hex: what selectors compare. ``arriving`` stands
    from its admission, or its return after a long absence, until the baseline was seen to. ``parts`` are the components
    it has, each between commas, None where it did not tell. ``on_bench``: marked as one
    that local builds are tried on. ``radio`` tells of a device on narrow radio whether it can take part in a session
    (``ready``) or what is missing; it speaks every ``radio_interval_s`` seconds, whatever it is told. One that speaks
    CoAP has a ``coap_lifetime_s``: within so many seconds it renews its registration.
    """

    __tablename__ = "device"
    id: Mapped[int] = mapped_column(primary_key=True)
    serial: Mapped[str] = mapped_column(unique=True)
    board: Mapped[str] = mapped_column(ForeignKey("board.name"))
    line: Mapped[str]
    hw_rev: Mapped[int] = mapped_column(Integer)
    labels: Mapped[dict[str, Any]]
    gateway: Mapped[str | None]
    admission: Mapped[str]
    generation: Mapped[int] = mapped_column(Integer)
    nonce_hash: Mapped[str | None]
    token_used: Mapped[bool]
    may_enrol_again: Mapped[bool]
    note: Mapped[str]
    pinned_until: Mapped[datetime | None]
    pinned_by: Mapped[str | None]
    pinned_why: Mapped[str | None]
    running: Mapped[dict[str, Any]]
    standby: Mapped[dict[str, Any]]
    version: Mapped[str | None]
    version_key: Mapped[bytes | None]
    version_keys: Mapped[dict[str, Any]]
    digest: Mapped[str | None] = mapped_column(index=True)
    floor: Mapped[int | None]
    updater: Mapped[int | None] = mapped_column(Integer)
    settings_digest: Mapped[str | None]
    parts: Mapped[str | None]
    enrolled_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    rescued_at: Mapped[datetime | None]
    cloned_at: Mapped[datetime | None]
    log_until: Mapped[datetime | None]
    arriving: Mapped[bool]
    on_bench: Mapped[bool] = mapped_column(server_default=text("false"))
    radio: Mapped[str | None]
    radio_region: Mapped[str | None]
    radio_interval_s: Mapped[int | None] = mapped_column(Integer)
    coap_lifetime_s: Mapped[int | None] = mapped_column(Integer)
    __table_args__ = (
        Index("ix_device_arriving", "id", postgresql_where=text("arriving")),
        Index("ix_device_gateway", "gateway"),
        Index("ix_device_cloned", "id", postgresql_where=text("cloned_at IS NOT NULL")),
        CheckConstraint("admission IN ('asking','admitted','refused','retired')", name="admission"),
        Index("ix_device_board_line", "board", "line"),
        Index("ix_device_labels", "labels", postgresql_using="gin", postgresql_ops={"labels": "jsonb_path_ops"}),
        # The few of a large fleet that need a person.
        Index("ix_device_barred", "id", postgresql_where=text("admission <> 'admitted'")),
        Index("ix_device_rescued", "id", postgresql_where=text("rescued_at IS NOT NULL")),
        Index("ix_device_updaterless", "id", postgresql_where=text("updater = 0")),
        Index("ix_device_radio", "id", postgresql_where=text("radio IS NOT NULL")),
        Index("ix_device_recovering", "id", postgresql_where=text("running #>> '{app,slot}' = 'recovery'")),
    )


class SelectionRow(Base):
    """A selector saved under a name."""

    __tablename__ = "selection"
    name: Mapped[str] = mapped_column(primary_key=True)
    selector: Mapped[str]
    note: Mapped[str]
    saved_at: Mapped[datetime]
    saved_by: Mapped[str]


class SerialList(Base):
    """A list of devices as somebody wrote it down; it never changes. ``digest`` is that of its serials in order."""

    __tablename__ = "serial_list"
    id: Mapped[int] = mapped_column(primary_key=True)
    digest: Mapped[str] = mapped_column(unique=True)
    devices: Mapped[int]
    added_at: Mapped[datetime]
    added_by: Mapped[str]


class Listed(Base):
    """A device that a list names."""

    __tablename__ = "listed"
    list_id: Mapped[int] = mapped_column(ForeignKey("serial_list.id", ondelete="CASCADE"), primary_key=True)
    serial: Mapped[str] = mapped_column(primary_key=True)


class Pulse(Base):
    """What a device's last call said; narrow, written in batches, never overwriting a newer (boots, seq).

    ``odd`` is a check-in that was older than what was known, as ``core.history.Odd`` has it: one may be late on its
    way, one that goes on after it shows that two devices use one token.
    """

    __tablename__ = "pulse"
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    seen_at: Mapped[datetime]
    boots: Mapped[int]
    seq: Mapped[int]
    interval_s: Mapped[int] = mapped_column(Integer)
    next_s: Mapped[int] = mapped_column(Integer)
    condition: Mapped[dict[str, Any]]
    readings: Mapped[dict[str, Any]]
    odd: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    __table_args__ = ({"postgresql_with": {"fillfactor": "70"}},)


class ConditionDay(Base):
    """What a device said of itself in the hours of a UTC day: 24 words as ``core.foresight.word_of`` makes them."""

    __tablename__ = "condition_day"
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    day: Mapped[date] = mapped_column(primary_key=True, index=True)
    hours: Mapped[list[int]] = mapped_column(ARRAY(SmallInteger))


class DeviceEvent(Base):
    """What happened to a device outside of attempts; ``count`` is how often at once (restarts between two calls)."""

    __tablename__ = "device_event"
    id: Mapped[int] = mapped_column(primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"))
    at: Mapped[datetime]
    what: Mapped[str]
    count: Mapped[int] = mapped_column(Integer)
    detail: Mapped[str]
    __table_args__ = (
        Index("ix_device_event_device_id_id", "device_id", "id"),
        Index("ix_device_event_what_at", "what", "at"),
    )


class AlarmRow(Base):
    """Something that a device noticed, ``about`` a serial or a port; ``at`` by its own time, ``heard_at`` ours.
    ``attempt_id`` is the attempt whose restart explains it."""

    __tablename__ = "alarm"
    id: Mapped[int] = mapped_column(primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"))
    kind: Mapped[str]
    about: Mapped[str]
    at: Mapped[datetime]
    heard_at: Mapped[datetime]
    detail: Mapped[str]
    attempt_id: Mapped[int | None] = mapped_column(ForeignKey("attempt.id"), index=True)
    __table_args__ = (
        UniqueConstraint("device_id", "kind", "about", "at"),
        Index("ix_alarm_about", "about"),
        Index("ix_alarm_unexplained", "heard_at", postgresql_where=text("attempt_id IS NULL")),
    )


class DeviceLog(Base):
    """Log lines that a device was asked for; ``at`` is the device's time, ``heard_at`` ours."""

    __tablename__ = "device_log"
    id: Mapped[int] = mapped_column(primary_key=True)
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"))
    boots: Mapped[int]
    number: Mapped[int]
    at: Mapped[datetime]
    heard_at: Mapped[datetime]
    text: Mapped[str]
    __table_args__ = (UniqueConstraint("device_id", "boots", "number"),)
