"""What a database's error means for those who asked, by the codes that servers give."""

from __future__ import annotations

from typing import Any

from sqlalchemy.exc import (
    DBAPIError,
    IntegrityError,
    InvalidRequestError,
    OperationalError,
    SQLAlchemyError,
)
from sqlalchemy.exc import TimeoutError as PoolTimeout

from vrelko.errors import DatabaseError, UnavailableError

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

_AWAY = ("the database cannot be reached", "Check that it runs and that the URL leads to it",
         "database-away")  # fmt: skip
_REFUSES = ("the database takes no connection with this URL",
            "Check its user, its password and the database's name", "database-login")  # fmt: skip
_SPACE = ("the database has no room left for what the statement needs",
          "Free space on its disk, or ask for less", "database-full")  # fmt: skip

TROUBLES = (_ABORTED, _BUSY, _RIGHTS, _LOST, _FLUSH, _FULL, _UNUSABLE, _AWAY, _REFUSES, _SPACE)
"""What is wrong, what to do, and the code of each."""

_PASSING = (_BUSY, _LOST, _FULL, _AWAY)
"""Troubles that pass by themselves."""

_BY_STATE = {
    "25P02": _ABORTED, "55P03": _BUSY, "40P01": _BUSY, "40001": _BUSY, "42501": _RIGHTS,
    "57P01": _LOST, "57P02": _LOST, "57P03": _AWAY, "08006": _LOST, "08003": _LOST,
    "08001": _AWAY, "53300": _AWAY, "53100": _SPACE, "53200": _SPACE, "28P01": _REFUSES,
    "28000": _REFUSES, "3D000": _REFUSES,
}  # fmt: skip
"""PostgreSQL's SQLSTATE (its documentation, appendix A)."""

_BY_NUMBER = {
    1205: _BUSY, 1213: _BUSY, 1044: _RIGHTS, 1142: _RIGHTS, 1143: _RIGHTS,
    2006: _LOST, 2013: _LOST, 2055: _LOST, 4031: _LOST, 1927: _LOST, 1053: _AWAY,
    1040: _AWAY, 1045: _REFUSES, 1049: _REFUSES, 1698: _REFUSES, 2002: _AWAY, 2003: _AWAY,
    1021: _SPACE, 3: _SPACE,
}  # fmt: skip
"""MariaDB's error numbers."""


def explain(error: SQLAlchemyError) -> DatabaseError | None:
    """Return the error to raise for a known trouble of any statement, None for others.

    No message of the database is in it, some of which hold values of rows, but for those that come
    before a connection stands.
    """
    if isinstance(error, PoolTimeout):
        return _error(_FULL)
    if not isinstance(error, DBAPIError):
        return DatabaseError(*_UNUSABLE) if isinstance(error, InvalidRequestError) else None
    # Before the codes: a server that went away may have left any.
    if error.connection_invalidated:
        return _error(_LOST)
    # A page only reads; what was refused is what the Session wrote first.
    if isinstance(error, IntegrityError):
        return DatabaseError(*_FLUSH)
    # Codes first: messages are in the server's language.
    original: Any = error.orig
    found = _BY_STATE.get(str(getattr(original, "sqlstate", None)))
    arguments = getattr(original, "args", ())
    if found is None and arguments:
        first = arguments[0]
        found = _BY_NUMBER.get(first) if isinstance(first, int) else None
        if found is None and isinstance(first, str):
            known = _BY_TEXT if error.statement else _BY_TEXT | _AT_LOGIN
            found = next((one for part, one in known.items() if part in first), None)
    unconnected = isinstance(error, OperationalError) and error.statement is None
    if found is None and unconnected and not _is_damaged(original):
        found = _AWAY  # drivers give no code where no server answered
    if found in (_AWAY, _REFUSES):
        what, todo, code = found
        found = f"{what}: {' '.join(str(original).split())}", todo, code
        kind = UnavailableError if code == _AWAY[2] else DatabaseError
        return kind(*found)
    return None if found is None else _error(found)


def _is_damaged(original: Any) -> bool:
    """Tell whether SQLite opened a file and could not read it."""
    return type(original).__module__ == "sqlite3" and "unable to open" not in str(original)


_BY_TEXT = {"is locked": _BUSY, "disk is full": _SPACE}
"""Parts of what SQLite says, which has no codes."""

_AT_LOGIN = {
    "password authentication failed": _REFUSES, "does not exist": _REFUSES,
    "no pg_hba.conf entry": _REFUSES,
}  # fmt: skip
"""Parts of what PostgreSQL says before a connection stands, without a code."""


def _error(trouble: tuple[str, str, str]) -> DatabaseError:
    return UnavailableError(*trouble) if trouble in _PASSING else DatabaseError(*trouble)
