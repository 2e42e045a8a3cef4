"""The fleet's own history: what happened to devices, their logs, presence over time; baselines that bring devices"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

TIME = sa.DateTime(timezone=True)


def upgrade() -> None:
    for column in ("rescued_at", "cloned_at", "log_until"):
        op.add_column("device", sa.Column(column, TIME, nullable=True))
    op.add_column("device", sa.Column("arriving", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.alter_column("device", "arriving", server_default=None)
    op.create_index("ix_device_arriving", "device", ["id"], postgresql_where=sa.text("arriving"))
    op.create_index("ix_device_gateway", "device", ["gateway"])
    op.add_column("pulse", sa.Column("odd_boots", sa.BigInteger(), nullable=True))
    op.add_column("pulse", sa.Column("odd_seq", sa.BigInteger(), nullable=True))
    op.add_column("baseline", sa.Column("brings", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.alter_column("baseline", "brings", server_default=None)
    op.create_table(
        "device_event",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.Column("detail", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_device_event_device_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name="pk_device_event"),
    )
    op.create_index("ix_device_event_device_id_id", "device_event", ["device_id", "id"])
    op.create_index("ix_device_event_what_at", "device_event", ["what", "at"])
    op.create_table(
        "device_log",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("boots", sa.BigInteger(), nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("heard_at", TIME, nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name="fk_device_log_device_id", ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id", name="pk_device_log"),
        sa.UniqueConstraint("device_id", "boots", "number", name="uq_device_log_device_id_boots_number"),
    )
    op.create_table(
        "presence_sample",
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("at", TIME, nullable=False),
        sa.Column("counts", JSONB(), nullable=False),
        sa.PrimaryKeyConstraint("board", "at", name="pk_presence_sample"),
    )
    op.create_index("ix_journal_subject", "journal", ["subject"])


def downgrade() -> None:
    op.drop_index("ix_journal_subject", "journal")
    for table in ("presence_sample", "device_log", "device_event"):
        op.drop_table(table)
    op.drop_column("baseline", "brings")
    op.drop_column("pulse", "odd_seq")
    op.drop_column("pulse", "odd_boots")
    op.drop_index("ix_device_gateway", "device")
    op.drop_index("ix_device_arriving", "device")
    for column in ("arriving", "log_until", "cloned_at", "rescued_at"):
        op.drop_column("device", column)
