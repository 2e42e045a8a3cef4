"""First flight"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(sa.schema.CreateSequence(sa.Sequence("gate_number")))
    op.create_table(
        "board",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("vendor_domain", sa.Text(), nullable=False),
        sa.Column("lines", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("hw_revs", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("slots", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("check_in_s", sa.Integer(), nullable=False),
        sa.Column("added_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_board")),
    )
    op.create_table(
        "clock",
        sa.Column("id", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("scale", sa.Double(), nullable=False),
        sa.Column("real_epoch", sa.DateTime(timezone=True), nullable=False),
        sa.Column("service_epoch", sa.DateTime(timezone=True), nullable=False),
        sa.Column("beat_real", sa.DateTime(timezone=True), nullable=False),
        sa.Column("beat_service", sa.DateTime(timezone=True), nullable=False),
        sa.Column("serving_since", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_clock")),
    )
    op.create_table(
        "image",
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("stored_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_image")),
    )
    op.create_table(
        "journal",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("link", sa.BigInteger(), nullable=True),
        sa.Column("hash", sa.Text(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("who", sa.Text(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("data", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_journal")),
        sa.UniqueConstraint("link", name=op.f("uq_journal_link")),
    )
    op.create_index("ix_journal_unsealed", "journal", ["id"], unique=False, postgresql_where=sa.text("link IS NULL"))
    op.create_table(
        "key_list",
        sa.Column("number", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("root", sa.LargeBinary(), nullable=False),
        sa.Column("body", sa.LargeBinary(), nullable=False),
        sa.Column("published_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("number", name=op.f("pk_key_list")),
    )
    op.create_table(
        "mac_key",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("secret", sa.LargeBinary(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_mac_key")),
    )
    op.create_table(
        "outbox",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("sealed", sa.BigInteger(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=True),
        sa.Column("device_id", sa.BigInteger(), nullable=True),
        sa.Column("attempt_id", sa.BigInteger(), nullable=True),
        sa.Column("data", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_outbox")),
        sa.UniqueConstraint("sealed", name=op.f("uq_outbox_sealed")),
    )
    op.create_index("ix_outbox_unsealed", "outbox", ["id"], unique=False, postgresql_where=sa.text("sealed IS NULL"))
    op.create_table(
        "person",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("password_hash", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("closed_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("role IN ('viewer','publisher','operator','admin')", name=op.f("ck_person_role")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person")),
        sa.UniqueConstraint("name", name=op.f("uq_person_name")),
    )
    op.create_table(
        "credential",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("secret_hash", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("closed_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("kind IN ('session','token')", name=op.f("ck_credential_kind")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_credential_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_credential")),
        sa.UniqueConstraint("secret_hash", name=op.f("uq_credential_secret_hash")),
    )
    op.create_table(
        "device",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("serial", sa.Text(), nullable=False),
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("hw_rev", sa.Integer(), nullable=False),
        sa.Column("labels", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("gateway", sa.Text(), nullable=True),
        sa.Column("admission", sa.Text(), nullable=False),
        sa.Column("generation", sa.Integer(), nullable=False),
        sa.Column("nonce_hash", sa.Text(), nullable=True),
        sa.Column("token_used", sa.Boolean(), nullable=False),
        sa.Column("running", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("standby", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("version", sa.Text(), nullable=True),
        sa.Column("version_key", sa.LargeBinary(), nullable=True),
        sa.Column("digest", sa.Text(), nullable=True),
        sa.Column("floor", sa.BigInteger(), nullable=True),
        sa.Column("updater", sa.Integer(), nullable=True),
        sa.Column("settings_digest", sa.Text(), nullable=True),
        sa.Column("enrolled_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("admission IN ('asking','admitted','refused','retired')", name=op.f("ck_device_admission")),
        sa.ForeignKeyConstraint(["board"], ["board.name"], name=op.f("fk_device_board")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_device")),
        sa.UniqueConstraint("serial", name=op.f("uq_device_serial")),
    )
    op.create_index("ix_device_board_line", "device", ["board", "line"], unique=False)
    op.create_index(op.f("ix_device_digest"), "device", ["digest"], unique=False)
    op.create_table(
        "enrolment_code",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("code_hash", sa.Text(), nullable=False),
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("labels", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("uses", sa.BigInteger(), nullable=False),
        sa.Column("used", sa.BigInteger(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("used <= uses", name=op.f("ck_enrolment_code_used")),
        sa.ForeignKeyConstraint(["board"], ["board.name"], name=op.f("fk_enrolment_code_board")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_enrolment_code")),
        sa.UniqueConstraint("code_hash", name=op.f("uq_enrolment_code_code_hash")),
    )
    op.create_table(
        "release",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("board", sa.Text(), nullable=False),
        sa.Column("line", sa.Text(), nullable=False),
        sa.Column("version", sa.Text(), nullable=False),
        sa.Column("version_key", sa.LargeBinary(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("floor", sa.BigInteger(), nullable=False),
        sa.Column("hw_rev_min", sa.Integer(), nullable=False),
        sa.Column("hw_rev_max", sa.Integer(), nullable=False),
        sa.Column("description", sa.Text(), nullable=False),
        sa.Column("manifest_digest", sa.Text(), nullable=False),
        sa.Column("authentication", sa.LargeBinary(), nullable=False),
        sa.Column("manifest", sa.LargeBinary(), nullable=False),
        sa.Column("kid", sa.Text(), nullable=False),
        sa.Column("published_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("published_by", sa.Text(), nullable=False),
        sa.CheckConstraint("state IN ('draft','published','withdrawn')", name=op.f("ck_release_state")),
        sa.ForeignKeyConstraint(["board"], ["board.name"], name=op.f("fk_release_board")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_release")),
        sa.UniqueConstraint("board", "line", "version", name=op.f("uq_release_board_line_version")),
        sa.UniqueConstraint("manifest_digest", name=op.f("uq_release_manifest_digest")),
    )
    op.create_table(
        "pulse",
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("seen_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("boots", sa.BigInteger(), nullable=False),
        sa.Column("seq", sa.BigInteger(), nullable=False),
        sa.Column("interval_s", sa.Integer(), nullable=False),
        sa.Column("next_s", sa.Integer(), nullable=False),
        sa.Column("condition", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("readings", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name=op.f("fk_pulse_device_id"), ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("device_id", name=op.f("pk_pulse")),
        postgresql_with={"fillfactor": "70"},
    )
    op.create_table(
        "release_image",
        sa.Column("release_id", sa.BigInteger(), nullable=False),
        sa.Column("component", sa.Text(), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("version", sa.Text(), nullable=False),
        sa.Column("build_id", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["digest"], ["image.digest"], name=op.f("fk_release_image_digest")),
        sa.ForeignKeyConstraint(
            ["release_id"], ["release.id"], name=op.f("fk_release_image_release_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("release_id", "component", name=op.f("pk_release_image")),
    )
    op.create_index(op.f("ix_release_image_digest"), "release_image", ["digest"], unique=False)
    op.create_table(
        "rollout",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("release_id", sa.BigInteger(), nullable=False),
        sa.Column("plan", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("halt_number", sa.BigInteger(), nullable=True),
        sa.Column("targeted", sa.BigInteger(), nullable=False),
        sa.Column("request_key", sa.Text(), nullable=True),
        sa.CheckConstraint(
            "state IN ('draft', 'scheduled', 'running', 'held', 'halted', 'finished', 'cancelled')",
            name=op.f("ck_rollout_state"),
        ),
        sa.ForeignKeyConstraint(["release_id"], ["release.id"], name=op.f("fk_rollout_release_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_rollout")),
        sa.UniqueConstraint("request_key", name=op.f("uq_rollout_request_key")),
    )
    op.create_index("ix_rollout_live", "rollout", ["id"], unique=False, postgresql_where=sa.text("ended_at IS NULL"))
    op.create_index(op.f("ix_rollout_release_id"), "rollout", ["release_id"], unique=False)
    op.create_table(
        "attempt",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("ring", sa.SmallInteger(), nullable=False),
        sa.Column("from_version", sa.Text(), nullable=True),
        sa.Column("from_digest", sa.Text(), nullable=True),
        sa.Column("facts", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("changed_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("live", sa.Boolean(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("try_number", sa.Integer(), nullable=False),
        sa.Column("tries", sa.Integer(), nullable=False),
        sa.Column("soak_s", sa.Integer(), nullable=False),
        sa.Column("retry_pause_s", sa.Integer(), nullable=False),
        sa.Column("last_boots", sa.BigInteger(), nullable=True),
        sa.Column("last_seq", sa.BigInteger(), nullable=True),
        sa.Column("step", sa.Text(), nullable=True),
        sa.Column("percent", sa.SmallInteger(), nullable=True),
        sa.Column("rate", sa.BigInteger(), nullable=True),
        sa.Column("waiting_for", sa.Text(), nullable=True),
        sa.Column("waiting_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("offered_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("exposed_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("confirmed_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("soak_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("retry_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("clearance", sa.BigInteger(), nullable=True),
        sa.Column("clearance_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ever_bad", sa.Boolean(), nullable=False),
        sa.Column("closed", sa.Boolean(), nullable=False),
        sa.CheckConstraint(
            "state IN ('queued', 'offered', 'downloading', 'staged', 'cleared', 'installing', 'proving', 'confirmed', 'failed', 'reverted', 'silent', 'relapsed', 'called-off', 'rolled-back')",
            name=op.f("ck_attempt_state"),
        ),
        sa.CheckConstraint("NOT (live AND closed)", name=op.f("ck_attempt_live_or_closed")),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name=op.f("fk_attempt_device_id")),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name=op.f("fk_attempt_rollout_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_attempt")),
        sa.UniqueConstraint("rollout_id", "device_id", name=op.f("uq_attempt_rollout_id_device_id")),
        postgresql_with={"fillfactor": "80"},
    )
    op.create_index("ix_attempt_device_newest", "attempt", ["device_id", sa.literal_column("id DESC")], unique=False)
    op.create_index("ix_attempt_rollout_state", "attempt", ["rollout_id", "ring", "state"], unique=False)
    op.create_index("uq_attempt_one_live", "attempt", ["device_id"], unique=True, postgresql_where=sa.text("live"))
    op.create_table(
        "passed_over",
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("device_id", sa.BigInteger(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["device_id"], ["device.id"], name=op.f("fk_passed_over_device_id")),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name=op.f("fk_passed_over_rollout_id")),
        sa.PrimaryKeyConstraint("rollout_id", "device_id", name=op.f("pk_passed_over")),
    )
    op.create_table(
        "ring",
        sa.Column("rollout_id", sa.BigInteger(), nullable=False),
        sa.Column("position", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("opened_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("soak_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("done_at", sa.DateTime(timezone=True), nullable=True),
        sa.CheckConstraint("state IN ('closed', 'awaiting-go', 'open', 'soaking', 'done')", name=op.f("ck_ring_state")),
        sa.ForeignKeyConstraint(["rollout_id"], ["rollout.id"], name=op.f("fk_ring_rollout_id")),
        sa.PrimaryKeyConstraint("rollout_id", "position", name=op.f("pk_ring")),
    )
    op.create_table(
        "attempt_event",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("attempt_id", sa.BigInteger(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("said_by", sa.Text(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("try_number", sa.Integer(), nullable=False),
        sa.Column("state", sa.Text(), nullable=True),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("step", sa.Text(), nullable=True),
        sa.Column("percent", sa.SmallInteger(), nullable=True),
        sa.Column("detail", sa.Text(), nullable=False),
        sa.Column("tests", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("log", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], name=op.f("fk_attempt_event_attempt_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_attempt_event")),
    )
    op.create_index(op.f("ix_attempt_event_attempt_id"), "attempt_event", ["attempt_id"], unique=False)


def downgrade() -> None:
    op.execute(sa.schema.DropSequence(sa.Sequence("gate_number")))
    op.drop_index(op.f("ix_attempt_event_attempt_id"), table_name="attempt_event")
    op.drop_table("attempt_event")
    op.drop_table("ring")
    op.drop_table("passed_over")
    op.drop_index("uq_attempt_one_live", table_name="attempt", postgresql_where=sa.text("live"))
    op.drop_index("ix_attempt_rollout_state", table_name="attempt")
    op.drop_index("ix_attempt_device_newest", table_name="attempt")
    op.drop_table("attempt")
    op.drop_index(op.f("ix_rollout_release_id"), table_name="rollout")
    op.drop_index("ix_rollout_live", table_name="rollout", postgresql_where=sa.text("ended_at IS NULL"))
    op.drop_table("rollout")
    op.drop_index(op.f("ix_release_image_digest"), table_name="release_image")
    op.drop_table("release_image")
    op.drop_table("pulse")
    op.drop_table("release")
    op.drop_table("enrolment_code")
    op.drop_index(op.f("ix_device_digest"), table_name="device")
    op.drop_index("ix_device_board_line", table_name="device")
    op.drop_table("device")
    op.drop_table("credential")
    op.drop_table("person")
    op.drop_index("ix_outbox_unsealed", table_name="outbox", postgresql_where=sa.text("sealed IS NULL"))
    op.drop_table("outbox")
    op.drop_table("mac_key")
    op.drop_table("key_list")
    op.drop_index("ix_journal_unsealed", table_name="journal", postgresql_where=sa.text("link IS NULL"))
    op.drop_table("journal")
    op.drop_table("image")
    op.drop_table("clock")
    op.drop_table("board")
