"""Devices that speak CoAP"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("device", sa.Column("coap_lifetime_s", sa.Integer(), nullable=True))
    op.create_table(
        "coap_device",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=True),
        sa.Column("secret_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("proved_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("sent", sa.BigInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("location", sa.Text(), nullable=True),
        sa.Column("address", sa.Text(), nullable=True),
        sa.Column("reached_at", sa.Text(), nullable=True),
        sa.Column("lifetime_s", sa.Integer(), nullable=True),
        sa.Column("queue", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column("objects", postgresql.JSONB(), nullable=False),
        sa.Column("registered_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("heard_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("gone", sa.Text(), server_default=sa.text("''"), nullable=False),
        sa.Column("state", sa.SmallInteger(), nullable=True),
        sa.Column("result", sa.SmallInteger(), nullable=True),
        sa.Column("told_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("protocols", postgresql.JSONB(), nullable=False),
        sa.Column("delivery", sa.SmallInteger(), nullable=True),
        sa.Column("says_version", sa.Text(), nullable=True),
        sa.Column("says_digest", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column("method", sa.Text(), nullable=True),
        sa.Column("block", sa.SmallInteger(), nullable=True),
        sa.Column("manifest", sa.Text(), nullable=True),
        sa.Column("attempt_id", sa.BigInteger(), nullable=True),
        sa.Column("try_number", sa.Integer(), nullable=True),
        sa.Column("ticket", sa.Text(), nullable=True),
        sa.Column("executed_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("boots", sa.BigInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("seq", sa.BigInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("trouble", sa.Text(), server_default=sa.text("''"), nullable=False),
        sa.Column("trouble_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], name="fk_coap_device_attempt_id", ondelete="SET NULL"),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_coap_device_device_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("device_id", name="pk_coap_device"),
        sa.UniqueConstraint("location", name="uq_coap_device_location"),
        sa.UniqueConstraint("ticket", name="uq_coap_device_ticket"),
    )
    op.create_index("ix_coap_device_attempt_id", "coap_device", ["attempt_id"], unique=False)
    op.create_index("ix_coap_device_expires_at", "coap_device", ["expires_at"], unique=False)


def downgrade() -> None:
    op.drop_table("coap_device")
    op.drop_column("device", "coap_lifetime_s")
