"""People, credentials, and the keys that devices' tokens are made with."""

from datetime import datetime

from sqlalchemy import (
    CheckConstraint,
    ForeignKey,
    Text,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class Person(Base):
    """Somebody who may sign in."""

    __tablename__ = "person"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    roles: Mapped[list[str]] = mapped_column(ARRAY(Text))
    password_hash: Mapped[str]
    # The password is one that somebody else has seen.
    must_change: Mapped[bool]
    # A selector: of all devices only those are theirs to see and steer.
    only: Mapped[str | None]
    created_at: Mapped[datetime]
    closed_at: Mapped[datetime | None]
    __table_args__ = (
        CheckConstraint(
            "cardinality(roles) > 0 AND roles <@ ARRAY['viewer','publisher','operator','admin']", name="roles"
        ),
    )


class KnownAddress(Base):
    """An address from which a person signed in, and when last."""

    __tablename__ = "known_address"
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), primary_key=True)
    address: Mapped[str] = mapped_column(primary_key=True)
    at: Mapped[datetime]


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
    # What a token may be used for alone; NULL for all that its person may.
    only_for: Mapped[str | None]
    __table_args__ = (CheckConstraint("kind IN ('session','token')", name="kind"),)


class MacKey(Base):
    """A key that device tokens are made with."""

    __tablename__ = "mac_key"
    id: Mapped[int] = mapped_column(primary_key=True)
    secret: Mapped[bytes]
    created_at: Mapped[datetime]
