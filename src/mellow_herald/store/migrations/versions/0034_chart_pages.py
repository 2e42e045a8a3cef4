"""Chart pages, and how series look to whom"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0034"
down_revision = "0033"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "chart_page",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("shared", sa.Boolean(), nullable=False),
        sa.Column("document", postgresql.JSONB(), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.Column("made_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name="fk_chart_page_person_id"),
        sa.PrimaryKeyConstraint("id", name="pk_chart_page"),
        sa.UniqueConstraint("person_id", "name", name="uq_chart_page_person_id_name"),
    )
    op.create_table(
        "series_style",
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("signal", sa.Text(), nullable=False),
        sa.Column("series", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=True),
        sa.Column("colour", sa.Text(), nullable=True),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name="fk_series_style_person_id"),
        sa.PrimaryKeyConstraint("person_id", "signal", "series", name="pk_series_style"),
    )


def downgrade() -> None:
    op.drop_table("series_style")
    op.drop_table("chart_page")
