"""Rows in PostgreSQL's binary COPY form read back as they were written."""

from datetime import UTC, datetime

import numpy as np
from sqlalchemy import text

from mellow_herald.store.database import make_engine
from mellow_herald.store.readings import copying
from mellow_herald.store.readings.copying import copy_rows, doubles, ints, moment, reals, small, texts, whole

AT = datetime(1999, 12, 31, 23, 59, 59, 123456, UTC)


async def test_all_fields_read_back(database_url: str) -> None:
    engine = make_engine(database_url, 1, 0)
    columns = ("a", "b", "c", "d", "e", "f", "g")
    rows = [
        [
            whole(-(2**62) + number),
            small(number),
            moment(AT),
            ints(np.array([0, -1, 2**31 - 1], np.int32)),
            reals(np.array([0.5, -1.25])) if number else reals(None),
            doubles(np.array([1e300, -0.1])),
            texts(["", "ü: 'so'"]) if number else texts(None),
        ]
        for number in range(2000)  # more than a piece
    ]
    async with engine.begin() as connection:
        await connection.execute(
            text(
                "CREATE TEMP TABLE copied (a bigint, b int, c timestamptz, d int[], e real[], f double precision[],"
                " g text[])"
            )
        )
        await copy_rows(connection, "copied", columns, rows)
        await copy_rows(connection, "copied", columns, [])
        found = (await connection.execute(text("SELECT * FROM copied ORDER BY b"))).all()
    await engine.dispose()
    assert len(found) == 2000 and sum(map(len, rows[0])) * 2000 > copying.PIECE_BYTES
    assert tuple(found[0]) == (-(2**62), 0, AT, [0, -1, 2**31 - 1], None, [1e300, -0.1], None)
    assert tuple(found[-1])[4:] == ([0.5, -1.25], [1e300, -0.1], ["", "ü: 'so'"])
