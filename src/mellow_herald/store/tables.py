"""The tables. Every time in them comes from the service's clock, never from the database."""

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    DateTime,
    Double,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    Sequence,
    SmallInteger,
    Text,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from mellow_herald.core.attempt import State
from mellow_herald.core.rollout import RingState, RolloutKind, RolloutState

NAMING = {
    "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    "uq": "uq_%(table_name)s_%(column_0_N_name)s",
    "ck": "ck_%(table_name)s_%(constraint_name)s",
    "fk": "fk_%(table_name)s_%(column_0_name)s",
    "pk": "pk_%(table_name)s",
}


class Base(DeclarativeBase):
    """Base of all tables."""

    metadata = MetaData(naming_convention=NAMING)
    type_annotation_map = {
        int: BigInteger,
        str: Text,
        bytes: LargeBinary,
        float: Double,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB,
        list[Any]: JSONB,
    }


# Clearances and halts of a rollout draw their numbers here, under the rollout's gate.
gate_numbers = Sequence("gate_number", metadata=Base.metadata)


def _one_of(column: str, values: type) -> CheckConstraint:
    listed = ", ".join(f"'{value}'" for value in values)
    return CheckConstraint(f"{column} IN ({listed})", name=column)


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


class Person(Base):
    """Somebody who may sign in."""

    __tablename__ = "person"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    role: Mapped[str]
    password_hash: Mapped[str]
    created_at: Mapped[datetime]
    closed_at: Mapped[datetime | None]
    __table_args__ = (CheckConstraint("role IN ('viewer','publisher','operator','admin')", name="role"),)


class Credential(Base):
    """A session of the console or a token of API and command line; only the secret's SHA-256 is kept."""

    __tablename__ = "credential"
    id: Mapped[int] = mapped_column(primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"))
    kind: Mapped[str]
    name: Mapped[str]
    secret_hash: Mapped[str] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    closed_at: Mapped[datetime | None]
    __table_args__ = (CheckConstraint("kind IN ('session','token')", name="kind"),)


class MacKey(Base):
    """A key that device tokens are made with."""

    __tablename__ = "mac_key"
    id: Mapped[int] = mapped_column(primary_key=True)
    secret: Mapped[bytes]
    created_at: Mapped[datetime]


class Board(Base):
    """A hardware model."""

    __tablename__ = "board"
    name: Mapped[str] = mapped_column(primary_key=True)
    vendor_domain: Mapped[str]
    lines: Mapped[list[Any]]
    hw_revs: Mapped[list[Any]]
    slots: Mapped[list[Any]]
    position_dependent: Mapped[bool]
    check_in_s: Mapped[int] = mapped_column(Integer)
    check_in_exceptions: Mapped[list[Any]]
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
        UniqueConstraint("board", "line", "version"),
        CheckConstraint("state IN ('draft','published','withdrawn')", name="state"),
        CheckConstraint("state = 'draft' OR published_at IS NOT NULL", name="published"),
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
    read: Mapped[bool]


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


class Device(Base):
    """A device: who it is and what it runs. Wide and rarely written; what changes often is in ``pulse``.

    ``version_keys`` has the version key of every component it runs, in hex: what selectors compare. ``arriving`` stands
    from its admission, or its return after a long absence, until the baseline was seen to.
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
    enrolled_at: Mapped[datetime]
    changed_at: Mapped[datetime]
    rescued_at: Mapped[datetime | None]
    cloned_at: Mapped[datetime | None]
    log_until: Mapped[datetime | None]
    arriving: Mapped[bool]
    __table_args__ = (
        Index("ix_device_arriving", "id", postgresql_where=text("arriving")),
        Index("ix_device_gateway", "gateway"),
        CheckConstraint("admission IN ('asking','admitted','refused','retired')", name="admission"),
        Index("ix_device_board_line", "board", "line"),
    )


class SelectionRow(Base):
    """A selector saved under a name."""

    __tablename__ = "selection"
    name: Mapped[str] = mapped_column(primary_key=True)
    selector: Mapped[str]
    note: Mapped[str]
    saved_at: Mapped[datetime]
    saved_by: Mapped[str]


class Pulse(Base):
    """What a device's last call said; narrow, written in batches, never overwriting a newer (boots, seq).

    ``odd_boots`` and ``odd_seq`` are of a check-in that was older than what was known: one may be late on its way, a
    second one shows that two devices use one token.
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
    odd_boots: Mapped[int | None]
    odd_seq: Mapped[int | None]
    __table_args__ = ({"postgresql_with": {"fillfactor": "70"}},)


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


class Rollout(Base):
    """A release brought to devices by a plan. ``target`` is the plan's with selections put in; ``revision`` counts
    edits of the plan; ``round_at`` is when the round ``round`` began, at the start or the last resume after a halt;
    ``watch`` how its brakes divide evidence. A rollback (``rolls_back`` names the rollout) brings devices back from the
    release to what they came from; ``scope`` says which of them."""

    __tablename__ = "rollout"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    release_id: Mapped[int] = mapped_column(ForeignKey("release.id"), index=True)
    plan: Mapped[dict[str, Any]]
    target: Mapped[str]
    revision: Mapped[int] = mapped_column(Integer)
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
    targeted: Mapped[int]
    request_key: Mapped[str | None] = mapped_column(unique=True)
    __table_args__ = (
        _one_of("state", RolloutState),
        _one_of("kind", RolloutKind),
        Index("ix_rollout_live", "id", postgresql_where=text("ended_at IS NULL")),
    )


class RingRow(Base):
    """One ring of a rollout. ``planned`` is how many devices it was to have when it was planned; ``go_at`` when
    somebody said go, ``asks_why`` why it asks."""

    __tablename__ = "ring"
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), primary_key=True)
    position: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    name: Mapped[str]
    state: Mapped[str]
    planned: Mapped[int]
    go_at: Mapped[datetime | None]
    asks_why: Mapped[str | None]
    opened_at: Mapped[datetime | None]
    soak_until: Mapped[datetime | None]
    done_at: Mapped[datetime | None]
    __table_args__ = (_one_of("state", RingState),)


class RingSlice(Base):
    """Up to 10,000 of the devices that a ring is to have, drawn when the rollout was planned."""

    __tablename__ = "ring_slice"
    rollout_id: Mapped[int] = mapped_column(ForeignKey("rollout.id"), primary_key=True)
    position: Mapped[int] = mapped_column(SmallInteger, primary_key=True, autoincrement=False)
    number: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=False)
    devices: Mapped[list[int]] = mapped_column(ARRAY(BigInteger))
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
    readings and settings as they were before the switch; ``back_to`` and ``back_release_id`` are the image and release
    that a rollback brings the device to."""

    __tablename__ = "attempt"
    id: Mapped[int] = mapped_column(primary_key=True)
    # No foreign keys: neither devices, rollouts nor releases that were published are ever deleted, and the check of
    # each new row, which locks the row it refers to, would take half of the time in which a large ring opens.
    rollout_id: Mapped[int]
    device_id: Mapped[int]
    ring: Mapped[int] = mapped_column(SmallInteger)
    from_version: Mapped[str | None]
    from_digest: Mapped[str | None]
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
    installs: Mapped[int] = mapped_column(Integer)
    cluster: Mapped[str | None]
    before: Mapped[dict[str, Any]]
    back_to: Mapped[str | None]
    back_release_id: Mapped[int | None]
    closed: Mapped[bool]
    __table_args__ = (
        _one_of("state", State),
        UniqueConstraint("device_id", "rollout_id"),
        CheckConstraint("NOT (live AND closed)", name="live_or_closed"),
        # A device is in at most one live attempt.
        Index("uq_attempt_one_live", "device_id", unique=True, postgresql_where=text("live")),
        Index("ix_attempt_rollout_state", "rollout_id", "ring", "state"),
        Index(
            "ix_attempt_bad",
            "rollout_id",
            postgresql_where=text("harmed_at IS NOT NULL OR undelivered_at IS NOT NULL"),
        ),
        {"postgresql_with": {"fillfactor": "80"}},
    )


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
    __table_args__ = (Index("ix_outbox_unsealed", "id", postgresql_where=text("sealed IS NULL")),)


class Webhook(Base):
    """An address that events are sent to. ``cursor`` is the newest event that was looked at for it."""

    __tablename__ = "webhook"
    id: Mapped[int] = mapped_column(primary_key=True)
    url: Mapped[str]
    secret: Mapped[str]
    kinds: Mapped[list[Any]]
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
