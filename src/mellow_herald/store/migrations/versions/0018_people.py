"""People of several roles, first passwords, known addresses"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("person", sa.Column("roles", ARRAY(sa.Text()), nullable=True))
    op.add_column("person", sa.Column("must_change", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.execute("UPDATE person SET roles = ARRAY[role]")
    op.alter_column("person", "roles", nullable=False)
    op.alter_column("person", "must_change", server_default=None)
    op.drop_constraint(op.f("ck_person_role"), "person", type_="check")
    op.drop_column("person", "role")
    op.create_check_constraint(
        op.f("ck_person_roles"),
        "person",
        "cardinality(roles) > 0 AND roles <@ ARRAY['viewer','publisher','operator','admin']",
    )
    op.create_table(
        "known_address",
        sa.Column("person_id", sa.BigInteger(), sa.ForeignKey("person.id"), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("person_id", "address", name=op.f("pk_known_address")),
    )


def downgrade() -> None:
    op.drop_table("known_address")
    op.drop_constraint(op.f("ck_person_roles"), "person", type_="check")
    op.add_column("person", sa.Column("role", sa.Text(), nullable=True))
    op.execute(
        "UPDATE person SET role = CASE WHEN 'admin' = ANY(roles) THEN 'admin' WHEN 'operator' = ANY(roles) THEN 'operator'"
        " WHEN 'publisher' = ANY(roles) THEN 'publisher' ELSE 'viewer' END"
    )
    op.alter_column("person", "role", nullable=False)
    op.create_check_constraint(op.f("ck_person_role"), "person", "role IN ('viewer','publisher','operator','admin')")
    op.drop_column("person", "roles")
    op.drop_column("person", "must_change")
