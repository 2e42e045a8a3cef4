"""Signals, who listens to whom, and readings over time"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "board", sa.Column("listen_at_most", sa.BigInteger(), server_default=sa.text("5000000"), nullable=False)
    )
    op.create_table(
        "signal",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("unit", sa.Text(), nullable=False),
        sa.Column("usual_low", sa.Double(), nullable=True),
        sa.Column("usual_high", sa.Double(), nullable=True),
        sa.Column("description", sa.Text(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("precise", sa.Boolean(), nullable=False),
        sa.Column("keep_s", sa.BigInteger(), nullable=True),
        sa.Column("declared", sa.Boolean(), nullable=False),
        sa.Column("first_at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("kind IN ('number', 'state', 'text')", name="ck_signal_kind"),
        sa.ForeignKeyConstraint(["board"], ["board.name"], name="fk_signal_board", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name="pk_signal"),
        sa.UniqueConstraint("board", "name", name="uq_signal_board_name"),
    )
    op.create_table(
        "listening",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("selector", sa.Text(), nullable=False),
        sa.Column("signals", postgresql.JSONB(), nullable=False),
        sa.Column("period_s", sa.Double(), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        sa.Column("made_by", sa.Text(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_by", sa.Text(), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("read_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("trouble", sa.Text(), server_default=sa.text("''"), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_listening"),
    )
    op.create_index("ix_listening_until", "listening", ["until"], unique=False)
    op.create_table(
        "listening_device",
        sa.Column("listening_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("since", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_listening_device_device_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["listening_id"], ["listening.id"], name="fk_listening_device_listening_id", ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("listening_id", "device_id", name="pk_listening_device"),
    )
    op.create_index("ix_listening_device_device_id", "listening_device", ["device_id"], unique=False)
    op.create_table(
        "device_signal",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("signal_id", sa.Integer(), nullable=False),
        sa.Column("first_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("last_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("arrived_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("value", sa.Double(), nullable=True),
        sa.Column("text", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_device_signal_device_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["signal_id"], ["signal.id"], name="fk_device_signal_signal_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("device_id", "signal_id", name="pk_device_signal"),
    )
    op.create_index("ix_device_signal_signal_id", "device_signal", ["signal_id"], unique=False)
    op.create_table(
        "reading_clock",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("offset_s", sa.Double(), nullable=False),
        sa.Column("offset_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("cost", postgresql.JSONB(), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_reading_clock_device_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("device_id", name="pk_reading_clock"),
    )
    op.create_table(
        "reading_landed",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("signal_id", sa.Integer(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("offsets", postgresql.ARRAY(sa.Integer()), nullable=False),
        sa.Column("vals", postgresql.ARRAY(sa.Double()), nullable=True),
        sa.Column("texts", postgresql.ARRAY(sa.Text()), nullable=True),
        sa.PrimaryKeyConstraint("id", name="pk_reading_landed"),
    )
    op.create_index("ix_reading_landed_device_id_signal_id", "reading_landed", ["device_id", "signal_id"], unique=False)
    op.create_table(
        "reading_chunk",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("signal_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("offsets", postgresql.ARRAY(sa.Integer()), nullable=False),
        sa.Column("vals", postgresql.ARRAY(sa.REAL()), nullable=True),
        sa.Column("doubles", postgresql.ARRAY(sa.Double()), nullable=True),
        sa.Column("texts", postgresql.ARRAY(sa.Text()), nullable=True),
        sa.PrimaryKeyConstraint("device_id", "signal_id", "at", name="pk_reading_chunk"),
        postgresql_partition_by="RANGE (at)",
    )
    op.create_index("ix_reading_chunk_at", "reading_chunk", ["at"], unique=False, postgresql_using="brin")
    op.create_table(
        "reading_minute",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("signal_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("least", sa.Double(), nullable=False),
        sa.Column("most", sa.Double(), nullable=False),
        sa.Column("mean", sa.Double(), nullable=False),
        sa.Column("last", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("device_id", "signal_id", "at", name="pk_reading_minute"),
        postgresql_partition_by="RANGE (at)",
    )
    op.create_table(
        "reading_hour",
        sa.Column("device_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("signal_id", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("least", sa.Double(), nullable=False),
        sa.Column("most", sa.Double(), nullable=False),
        sa.Column("mean", sa.Double(), nullable=False),
        sa.Column("last", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("device_id", "signal_id", "at", name="pk_reading_hour"),
        postgresql_partition_by="RANGE (at)",
    )


def downgrade() -> None:
    op.drop_table("reading_hour")
    op.drop_table("reading_minute")
    op.drop_table("reading_chunk")
    op.drop_table("reading_landed")
    op.drop_table("reading_clock")
    op.drop_table("device_signal")
    op.drop_table("listening_device")
    op.drop_table("listening")
    op.drop_table("signal")
    op.drop_column("board", "listen_at_most")
