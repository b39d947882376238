"""Time limits for statements, by each engine's own means."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy.exc import DBAPIError

from vrelko.engines.registry import ENGINES, database_errors, engine_of
from vrelko.errors import DatabaseError, PageError, TimeLimitError

_MOST_MS = 2**31 - 1


@contextmanager
def limit_time(lender: Any, ms: float) -> Iterator[None]:
    """Limit each statement that is run inside the block on a Connection or Session to `ms`.

    PostgreSQL: statement_timeout for the transaction. Inside a transaction of the caller's a
    savepoint is set first, so that it goes on after a statement that failed; a transaction that
    begins here is rolled back then. MariaDB: max_statement_time for the session, set back
    afterwards. SQLite: the statement is interrupted.
    Raises PageError for a limit that is no number in range, TimeLimitError when a statement inside
    the block runs into the limit, DatabaseError when the database refuses the limit or a statement.
    """
    # Engines take whole milliseconds in 31 bits.
    if type(ms) not in (int, float) or not 0 < ms <= _MOST_MS:
        raise PageError(
            f"time_limit_ms must be a number above 0 and at most {_MOST_MS:,}, got {ms!r}",
            "Give 500 or the like",
            "time-limit",
        )
    with database_errors("time limit"), engine_of(lender).limit_time(lender, ms):
        # Inside: a statement that was cut off must not be told as a limit that was refused.
        try:
            with database_errors("statement"):
                yield
        except TimeLimitError:  # told already
            raise
        except DatabaseError as error:
            if isinstance(error.__cause__, DBAPIError) and is_time_limit(error.__cause__):
                raise limit_reached() from error.__cause__
            raise


def limit_reached() -> TimeLimitError:
    """Return the error for a statement that ran into a time limit of ours."""
    return TimeLimitError(
        "a statement reached its time limit",
        "Allow more time, add an index that fits, or ask for less",
        "time-limit-reached",
    )


def is_time_limit(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it ran into its time limit, on any engine."""
    return any(engine.is_time_limit(error) for engine in ENGINES.values())
