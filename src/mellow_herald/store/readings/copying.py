"""Rows with arrays in PostgreSQL's binary COPY form, made whole columns at a time: to have a driver look at each number
of an array costs more than all else that is done with it.

The form is that of the PostgreSQL manual (COPY, "Binary Format"): a head, for each row the count of its fields and for
each field its length and its bytes, an end.
"""

import struct
from collections.abc import AsyncIterator, Iterable, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.ext.asyncio import AsyncConnection

HEAD, END = b"PGCOPY\n\xff\r\n\x00" + struct.pack(">ii", 0, 0), struct.pack(">h", -1)
NULL = struct.pack(">i", -1)
EPOCH = datetime(2000, 1, 1, tzinfo=UTC)
MICROSECOND = timedelta(microseconds=1)
INT4, FLOAT4, FLOAT8, TEXT = 23, 700, 701, 25
_OF_INT4 = np.dtype([("length", ">i4"), ("value", ">i4")])
_OF_FLOAT4 = np.dtype([("length", ">i4"), ("value", ">f4")])
_OF_FLOAT8 = np.dtype([("length", ">i4"), ("value", ">f8")])
PIECE_BYTES = 256 * 1024


def whole(value: int) -> bytes:
    """A ``bigint`` field."""
    return struct.pack(">iq", 8, value)


def small(value: int) -> bytes:
    """An ``int`` field."""
    return struct.pack(">ii", 4, value)


def moment(value: datetime) -> bytes:
    """A ``timestamptz`` field."""
    return struct.pack(">iq", 8, (value - EPOCH) // MICROSECOND)


def ints(values: NDArray[np.int32]) -> bytes:
    """An ``int[]`` field."""
    return _array(values, INT4, _OF_INT4)


def reals(values: NDArray[np.float64] | None) -> bytes:
    """A ``real[]`` field, or NULL."""
    return NULL if values is None else _array(values, FLOAT4, _OF_FLOAT4)


def doubles(values: NDArray[np.float64] | None) -> bytes:
    """A ``double precision[]`` field, or NULL."""
    return NULL if values is None else _array(values, FLOAT8, _OF_FLOAT8)


def texts(values: Sequence[str] | None) -> bytes:
    """A ``text[]`` field, or NULL."""
    if values is None:
        return NULL
    encoded = [value.encode() for value in values]
    body = b"".join(struct.pack(">i", len(one)) + one for one in encoded)
    return _field(len(encoded), TEXT, body)


def _array(values: NDArray[Any], kind: int, form: np.dtype[Any]) -> bytes:
    told = np.empty(len(values), form)
    told["length"], told["value"] = form["value"].itemsize, values
    return _field(len(values), kind, told.tobytes())


def _field(count: int, kind: int, body: bytes) -> bytes:
    # One dimension, nothing in it is NULL, its first element is number 1.
    head = struct.pack(">iiiii", 1, 0, kind, count, 1)
    return struct.pack(">i", len(head) + len(body)) + head + body


async def copy_rows(
    connection: AsyncConnection, table: str, columns: Sequence[str], rows: Iterable[Sequence[bytes]]
) -> None:
    """Writes rows, each a sequence of fields as above, by COPY."""
    raw: Any = (await connection.get_raw_connection()).driver_connection
    count = struct.pack(">h", len(columns))

    async def pieces() -> AsyncIterator[bytes]:
        waiting = [HEAD]
        size = 0
        for row in rows:
            waiting.append(count)
            waiting.extend(row)
            size += sum(map(len, row))
            if size > PIECE_BYTES:
                yield b"".join(waiting)
                waiting, size = [], 0
        yield b"".join([*waiting, END])

    await raw.copy_to_table(table, source=pieces(), columns=columns, format="binary")
