"""What is declared of a stored row is what its table has."""

import inspect
from typing import get_args, get_type_hints

import pytest

from mellow_herald.store import rows, tables

# An event is read only once it has its number.
NEVER_NONE = {("StoredEvent", "sealed")}
DECLARED = {
    name: (kind.__doc__ or "").partition("tables.")[2].partition("`")[0]
    for name, kind in inspect.getmembers(rows, inspect.isclass)
    if name.startswith("Stored")
}


def test_rows_are_declared() -> None:
    assert len(DECLARED) > 15 and all(DECLARED.values()), DECLARED


@pytest.mark.parametrize("name", DECLARED)
def test_a_row_has_the_columns_of_its_table(name: str) -> None:
    columns = getattr(tables, DECLARED[name]).__table__.columns
    hints = get_type_hints(getattr(rows, name))
    assert list(hints) == [column.name for column in columns]
    for column in columns:
        may_be_none = type(None) in get_args(hints[column.name])
        assert may_be_none == (column.nullable and (name, column.name) not in NEVER_NONE), column.name
