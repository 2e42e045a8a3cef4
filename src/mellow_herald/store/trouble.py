"""Telling the database's own trouble from what is wrong with one statement's values."""

import asyncpg
from sqlalchemy.exc import DBAPIError, SQLAlchemyError
from sqlalchemy.exc import TimeoutError as NoConnectionInTime

# Everything that a call of the database may raise; before there is a connection the driver's own errors come through.
ERRORS = (SQLAlchemyError, asyncpg.PostgresError, ConnectionError, TimeoutError)
# Classes of SQLSTATE (PostgreSQL, appendix A) that say nothing against what was to be written: connection exceptions,
# transactions that were rolled back for others' sake, insufficient resources, intervention of an operator, and errors
# outside PostgreSQL.
PASSING = ("08", "40", "53", "55", "57", "58")


def is_away(error: BaseException) -> bool:
    """Whether the database is not there, not now, or out of room: the same call may well succeed later."""
    if isinstance(error, NoConnectionInTime | ConnectionError | TimeoutError):
        return True
    if isinstance(error, DBAPIError):
        # Without a state it is the driver's own: the connection went away under it, in whichever words.
        state = getattr(error.orig, "sqlstate", None)
        return error.connection_invalidated or not state or state.startswith(PASSING)
    return isinstance(error, asyncpg.PostgresError) and (error.sqlstate or "").startswith(PASSING)
