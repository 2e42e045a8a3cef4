"""Boards, keys, releases and their images, baselines, and what a line's fleet ran over time."""

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    ForeignKey,
    Index,
    Integer,
    SmallInteger,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class Board(Base):
    """A hardware model."""

    __tablename__ = "board"
    name: Mapped[str] = mapped_column(primary_key=True)
    vendor_domain: Mapped[str]
    lines: Mapped[list[Any]]
    hw_revs: Mapped[list[Any]]
    slots: Mapped[list[Any]]
    components: Mapped[list[Any]] = mapped_column(server_default=text("'[]'"))
    runs: Mapped[str]
    run_address: Mapped[int | None] = mapped_column(BigInteger)
    check_in_s: Mapped[int] = mapped_column(Integer)
    check_in_exceptions: Mapped[list[Any]]
    listen_at_most: Mapped[int] = mapped_column(server_default=text("5000000"))
    added_at: Mapped[datetime]


class KeyListRow(Base):
    """A key list that was published; the highest number is in force."""

    __tablename__ = "key_list"
    number: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    root: Mapped[bytes]
    body: Mapped[bytes]
    published_at: Mapped[datetime]


class Release(Base):
    """A signed version of a line for one board. ``authentication`` and ``manifest`` are the signed bytes.

    ``revision`` counts edits; ``cleaned_at`` is when its images were cleaned away, if they were.
    """

    __tablename__ = "release"
    id: Mapped[int] = mapped_column(primary_key=True)
    board: Mapped[str] = mapped_column(ForeignKey("board.name"))
    line: Mapped[str]
    version: Mapped[str]
    version_key: Mapped[bytes]
    state: Mapped[str]
    floor: Mapped[int]
    hw_rev_min: Mapped[int] = mapped_column(Integer)
    hw_rev_max: Mapped[int] = mapped_column(Integer)
    needs: Mapped[dict[str, Any]]
    independent: Mapped[bool]
    restart: Mapped[bool] = mapped_column(server_default=text("false"))
    notes: Mapped[str]
    labels: Mapped[dict[str, Any]]
    revision: Mapped[int] = mapped_column(Integer)
    checks: Mapped[list[Any]]
    manifest_digest: Mapped[str] = mapped_column(unique=True)
    authentication: Mapped[bytes]
    manifest: Mapped[bytes]
    kid: Mapped[str] = mapped_column(index=True)
    uploaded_at: Mapped[datetime]
    uploaded_by: Mapped[str]
    published_at: Mapped[datetime | None]
    published_by: Mapped[str | None]
    withdrawn_at: Mapped[datetime | None]
    withdrawn_by: Mapped[str | None]
    withdrawn_why: Mapped[str | None]
    cleaned_at: Mapped[datetime | None]
    __table_args__ = (
        # A scratch image, made for the bench, takes no name away.
        Index("uq_release_name", "board", "line", "version", unique=True, postgresql_where=text("state <> 'scratch'")),
        CheckConstraint("state IN ('draft','published','withdrawn','scratch')", name="state"),
        CheckConstraint("state IN ('draft','scratch') OR published_at IS NOT NULL", name="published"),
        CheckConstraint("(state = 'withdrawn') = (withdrawn_at IS NOT NULL)", name="withdrawn"),
    )


class Baseline(Base):
    """The release that newly admitted or returning devices of a line and board should run; ``brings`` them to it."""

    __tablename__ = "baseline"
    board: Mapped[str] = mapped_column(ForeignKey("board.name"), primary_key=True)
    line: Mapped[str] = mapped_column(primary_key=True)
    release_id: Mapped[int] = mapped_column(ForeignKey("release.id"), unique=True)
    set_at: Mapped[datetime]
    set_by: Mapped[str]
    brings: Mapped[bool]


class PresenceSample(Base):
    """How many admitted devices of a board were present how, whenever that had changed."""

    __tablename__ = "presence_sample"
    board: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    counts: Mapped[dict[str, Any]]


class LineageSample(Base):
    """How many devices of a line and board ran which version, whenever that had changed."""

    __tablename__ = "lineage_sample"
    board: Mapped[str] = mapped_column(primary_key=True)
    line: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    counts: Mapped[dict[str, Any]]


class ImageRow(Base):
    """An image in the image store, known by its digest. A row without ``gone_at`` stands only after its bytes do."""

    __tablename__ = "image"
    digest: Mapped[str] = mapped_column(primary_key=True)
    size: Mapped[int]
    stored_at: Mapped[datetime]
    gone_at: Mapped[datetime | None]


class ReleaseImage(Base):
    """Which image a release has for which component; ``slot`` is the board's slot it is linked for, −1 for any."""

    __tablename__ = "release_image"
    release_id: Mapped[int] = mapped_column(ForeignKey("release.id", ondelete="CASCADE"), primary_key=True)
    component: Mapped[str] = mapped_column(primary_key=True)
    slot: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    position: Mapped[int] = mapped_column(SmallInteger)
    digest: Mapped[str] = mapped_column(ForeignKey("image.digest"), index=True)
    version: Mapped[str]
    updater: Mapped[int] = mapped_column(Integer)
    build_id: Mapped[str]
    build_time: Mapped[int]
    address: Mapped[int | None]
    after: Mapped[list[Any]]
    base: Mapped[str | None]
    read: Mapped[bool]
