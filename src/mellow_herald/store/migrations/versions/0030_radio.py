"""Devices on narrow radio, and the sessions in which groups of them are sent a release"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("device", sa.Column("radio", sa.Text(), nullable=True))
    op.add_column("device", sa.Column("radio_region", sa.Text(), nullable=True))
    op.add_column("device", sa.Column("radio_interval_s", sa.Integer(), nullable=True))
    op.create_index("ix_device_radio", "device", ["id"], postgresql_where=sa.text("radio IS NOT NULL"))
    op.create_table(
        "radio_device",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("eui", sa.Text(), nullable=False),
        sa.Column("region", sa.Text(), nullable=False),
        sa.Column("device_class", sa.Text(), nullable=False),
        sa.Column("lorawan", sa.Text(), nullable=False),
        sa.Column("interval_s", sa.Integer(), nullable=False),
        sa.Column("ports", postgresql.JSONB(), nullable=False),
        sa.Column("packages", postgresql.JSONB(), nullable=False),
        sa.Column("most_fragment", sa.SmallInteger(), nullable=True),
        sa.Column("root_key", sa.LargeBinary(), nullable=True),
        sa.Column("key_proved_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("session_count", sa.Integer(), server_default=sa.text("0"), nullable=False),
        sa.Column("boots", sa.BigInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("seq", sa.BigInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("spoken", sa.Integer(), server_default=sa.text("0"), nullable=False),
        sa.Column("clock_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("lost", sa.Double(), nullable=True),
        sa.Column("burst", sa.Double(), nullable=True),
        sa.Column("heard_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("rssi", sa.SmallInteger(), nullable=True),
        sa.Column("data_rate", sa.SmallInteger(), nullable=True),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_radio_device_device_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("device_id", name="pk_radio_device"),
        sa.UniqueConstraint("eui", name="uq_radio_device_eui"),
    )
    op.create_table(
        "radio_session",
        sa.Column("id", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("repair_of", sa.BigInteger(), nullable=True),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("manifest", sa.Text(), nullable=False),
        sa.Column("region", sa.Text(), nullable=False),
        sa.Column("data_rate", sa.SmallInteger(), nullable=False),
        sa.Column("frequency", sa.BigInteger(), nullable=False),
        sa.Column("fragment", sa.SmallInteger(), nullable=False),
        sa.Column("redundancy", sa.SmallInteger(), nullable=False),
        sa.Column("fragments", sa.Integer(), nullable=False),
        sa.Column("coded", sa.Integer(), nullable=False),
        sa.Column("first_number", sa.Integer(), nullable=False),
        sa.Column("ask_after", sa.Integer(), nullable=False),
        sa.Column("on_air_s", sa.Double(), nullable=False),
        sa.Column("apart_s", sa.Double(), nullable=False),
        sa.Column("time_out", sa.SmallInteger(), nullable=False),
        sa.Column("spread", sa.SmallInteger(), nullable=False),
        sa.Column("address", sa.BigInteger(), nullable=False),
        sa.Column("group_key", sa.LargeBinary(), nullable=False),
        sa.Column("next_counter", sa.BigInteger(), nullable=False),
        sa.Column("sent", sa.Integer(), nullable=False),
        sa.Column("answers_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("asked_after", sa.Integer(), nullable=True),
        sa.Column("ask_next_after", sa.Integer(), nullable=True),
        sa.Column("expected_s", sa.Double(), nullable=False),
        sa.Column("expected_share", sa.Double(), nullable=False),
        sa.Column("planned_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("begins_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("began_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("outcome", sa.Text(), nullable=True),
        sa.Column("postponed", sa.SmallInteger(), server_default=sa.text("0"), nullable=False),
        sa.Column("trouble", sa.Text(), server_default=sa.text("''"), nullable=False),
        sa.CheckConstraint("state IN ('setting-up','sending','ended')", name="ck_radio_session_state"),
        sa.ForeignKeyConstraint(["repair_of"], ["radio_session.id"], name="fk_radio_session_repair_of"),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name="fk_radio_session_rollout_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name="pk_radio_session"),
    )
    op.create_index(
        "ix_radio_session_address",
        "radio_session",
        ["address"],
        unique=True,
        postgresql_where=sa.text("state <> 'ended'"),
    )
    op.create_index("ix_radio_session_rollout_id", "radio_session", ["rollout_id"], unique=False)
    op.create_table(
        "radio_member",
        sa.Column("session_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("attempt_id", sa.BigInteger(), nullable=False),
        sa.Column("try_number", sa.Integer(), nullable=False),
        sa.Column("session_count", sa.Integer(), nullable=False),
        sa.Column("clock_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("in_group", sa.Boolean(), nullable=False),
        sa.Column("has_session", sa.Boolean(), nullable=False),
        sa.Column("has_fragments", sa.Boolean(), nullable=False),
        sa.Column("problem", sa.Text(), nullable=False),
        sa.Column("received", sa.Integer(), nullable=False),
        sa.Column("missing", sa.Integer(), nullable=True),
        sa.Column("lost", sa.Integer(), nullable=True),
        sa.Column("recovered", sa.Integer(), nullable=True),
        sa.Column("complete", sa.Boolean(), nullable=False),
        sa.Column("ready", sa.Boolean(), nullable=True),
        sa.Column("told", postgresql.JSONB(), nullable=True),
        sa.Column("heard_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], name="fk_radio_member_attempt_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_radio_member_device_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(
            ["session_id"], ["radio_session.id"], name="fk_radio_member_session_id", ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("session_id", "device_id", name="pk_radio_member"),
    )
    op.create_index("ix_radio_member_attempt_id", "radio_member", ["attempt_id"], unique=False)
    op.create_index("ix_radio_member_device_id", "radio_member", ["device_id"], unique=False)
    op.create_table(
        "radio_wish",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("attempt_id", sa.BigInteger(), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("try_number", sa.Integer(), nullable=False),
        sa.Column("manifest", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], name="fk_radio_wish_attempt_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_radio_wish_device_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name="fk_radio_wish_rollout_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("device_id", name="pk_radio_wish"),
    )
    op.create_table(
        "radio_network",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("url", sa.Text(), nullable=False),
        sa.Column("run", sa.Text(), nullable=False),
        sa.Column("uplinks", sa.BigInteger(), nullable=False),
        sa.Column("region", sa.Text(), nullable=False),
        sa.Column("heard_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("trouble", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name="pk_radio_network"),
    )


def downgrade() -> None:
    for table in ("radio_network", "radio_wish", "radio_member", "radio_session", "radio_device"):
        op.drop_table(table)
    for column in ("radio_interval_s", "radio_region", "radio"):
        op.drop_column("device", column)
