"""What all tables share. Every time in them comes from the service's clock, never from the database."""

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    DateTime,
    Double,
    LargeBinary,
    MetaData,
    Sequence,
    Text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase

NAMING = {
    "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    "uq": "uq_%(table_name)s_%(column_0_N_name)s",
    "ck": "ck_%(table_name)s_%(constraint_name)s",
    "fk": "fk_%(table_name)s_%(column_0_name)s",
    "pk": "pk_%(table_name)s",
}


class Base(DeclarativeBase):
    """Base of all tables."""

    metadata = MetaData(naming_convention=NAMING)
    type_annotation_map = {
        int: BigInteger,
        str: Text,
        bytes: LargeBinary,
        float: Double,
        datetime: DateTime(timezone=True),
        dict[str, Any]: JSONB,
        list[Any]: JSONB,
    }


# Clearances and halts of a rollout draw their numbers here, under the rollout's gate.
gate_numbers = Sequence("gate_number", metadata=Base.metadata)


def one_of(column: str, values: type[StrEnum]) -> CheckConstraint:
    """A column that has one of an enumeration's values."""
    listed = ", ".join(f"'{value}'" for value in values)
    return CheckConstraint(f"{column} IN ({listed})", name=column)
