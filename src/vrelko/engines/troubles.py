"""What a database's error means for those who asked, by the codes that servers give."""

from __future__ import annotations

from typing import Any

from sqlalchemy.exc import (
    DBAPIError,
    IntegrityError,
    InvalidRequestError,
    SQLAlchemyError,
)
from sqlalchemy.exc import TimeoutError as PoolTimeout

from vrelko.errors import DatabaseError

_ABORTED = ("the transaction failed earlier, and reads nothing any more",
            "Roll it back, then read again", "transaction-aborted")  # fmt: skip
_BUSY = ("the rows are locked by another transaction, or it was chosen to give way",
         "Roll back and try again", "database-busy")  # fmt: skip
_RIGHTS = ("the database user may not read what the listing reads",
           "Grant SELECT on its tables", "database-rights")  # fmt: skip
_LOST = ("the connection to the database is lost",
         "Take a new one and try again", "connection-lost")  # fmt: skip
_FLUSH = ("the Session's own pending changes were refused as it wrote them before reading",
          "Flush or roll back the Session first, or read under session.no_autoflush",
          "session-flush")  # fmt: skip
_FULL = ("no connection of the pool came free in time",
         "Raise the pool's size, or hold connections for less long", "pool-full")  # fmt: skip
_UNUSABLE = ("the connection or Session cannot be read from as it stands",
             "Roll it back, or give an open one", "connection-unusable")  # fmt: skip

TROUBLES = (_ABORTED, _BUSY, _RIGHTS, _LOST, _FLUSH, _FULL, _UNUSABLE)
"""What is wrong, what to do, and the code of each."""

_BY_STATE = {
    "25P02": _ABORTED, "55P03": _BUSY, "40P01": _BUSY, "40001": _BUSY, "42501": _RIGHTS,
    "57P01": _LOST, "57P02": _LOST, "57P03": _LOST, "08006": _LOST, "08003": _LOST,
}  # fmt: skip
"""PostgreSQL's SQLSTATE (its documentation, appendix A)."""

_BY_NUMBER = {
    1205: _BUSY, 1213: _BUSY, 1044: _RIGHTS, 1142: _RIGHTS, 1143: _RIGHTS,
    2006: _LOST, 2013: _LOST, 2055: _LOST, 4031: _LOST, 1927: _LOST,
}  # fmt: skip
"""MariaDB's error numbers."""


def explain(error: SQLAlchemyError) -> DatabaseError | None:
    """Return the error to raise for a known trouble of any statement, None for others.

    No message of the database is in it: some hold values of rows.
    """
    if isinstance(error, PoolTimeout):
        return DatabaseError(*_FULL)
    if not isinstance(error, DBAPIError):
        return DatabaseError(*_UNUSABLE) if isinstance(error, InvalidRequestError) else None
    if error.connection_invalidated:
        return DatabaseError(*_LOST)
    if isinstance(error, IntegrityError):
        return DatabaseError(*_FLUSH)
    original: Any = error.orig
    found = _BY_STATE.get(str(getattr(original, "sqlstate", None)))
    arguments = getattr(original, "args", ())
    if found is None and arguments:
        first = arguments[0]
        found = _BY_NUMBER.get(first) if isinstance(first, int) else None
        if found is None and isinstance(first, str) and "is locked" in first:
            found = _BUSY
    return None if found is None else DatabaseError(*found)
