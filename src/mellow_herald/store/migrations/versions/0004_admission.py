"""Codes that ask a person; notes on devices; leave to enrol again"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for table, column, kind, default in (
        ("enrolment_code", "ask", sa.Boolean(), "false"),
        ("device", "note", sa.Text(), "''"),
        ("device", "may_enrol_again", sa.Boolean(), "false"),
    ):
        op.add_column(table, sa.Column(column, kind, nullable=False, server_default=sa.text(default)))
        op.alter_column(table, column, server_default=None)


def downgrade() -> None:
    op.drop_column("device", "may_enrol_again")
    op.drop_column("device", "note")
    op.drop_column("enrolment_code", "ask")
