"""Recordings at full rate"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0033"
down_revision = "0032"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "recording",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("begins", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ends", sa.DateTime(timezone=True), nullable=False),
        sa.Column("signals", postgresql.JSONB(), nullable=False),
        sa.Column("at_most", sa.BigInteger(), nullable=False),
        sa.Column("asked_by", sa.Text(), nullable=False),
        sa.Column("asked_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("offset_s", sa.Double(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=True),
        sa.Column("sha256", sa.Text(), nullable=True),
        sa.Column("samples", sa.BigInteger(), nullable=True),
        sa.Column("have", sa.BigInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("tries", sa.Integer(), server_default=sa.text("0"), nullable=False),
        sa.Column("moved_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("reason", sa.Text(), server_default=sa.text("''"), nullable=False),
        sa.Column("detail", sa.Text(), server_default=sa.text("''"), nullable=False),
        sa.Column("contains", postgresql.JSONB(), server_default=sa.text("'[]'"), nullable=False),
        sa.CheckConstraint(
            "state IN ('asked', 'coming', 'complete', 'failed', 'cancelled')", name="ck_recording_state"
        ),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_recording_device_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name="pk_recording"),
    )
    op.create_index("ix_recording_device_id", "recording", ["device_id"], unique=False)
    op.create_index("ix_recording_ended_at", "recording", ["ended_at"], unique=False)
    op.create_table(
        "recording_part",
        sa.Column("recording_id", sa.BigInteger(), nullable=False),
        sa.Column("at", sa.BigInteger(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(
            ["recording_id"], ["recording.id"], name="fk_recording_part_recording_id", ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("recording_id", "at", name="pk_recording_part"),
    )


def downgrade() -> None:
    op.drop_table("recording_part")
    op.drop_table("recording")
