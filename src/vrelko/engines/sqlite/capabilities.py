"""SQLite: what it can do, how its files are checked and its work is counted."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, Table, event, text
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.capabilities import Capabilities
from vrelko.core.engine_traits import TRAITS
from vrelko.core.stored import Stored
from vrelko.engines import clock
from vrelko.errors import DatabaseError

_TRAITS = TRAITS["sqlite"]
CAPABILITIES = Capabilities(
    engine="sqlite",
    form="row-value",
    nulls_low=_TRAITS.nulls_low,
    nulls_syntax=True,
    nulls_served=_TRAITS.nulls_served,
    row_id_joins=False,
    index_tail=_TRAITS.index_tail,
    equality_traps=False,
    streams_unions=True,
    moments_as_text=True,
    sorts_groups=_TRAITS.sorts_groups,
    null_keys=True,
)

_MAGIC = b"SQLite format 3\x00"


_COLUMNS = text('SELECT name, type, "notnull", pk FROM pragma_table_info(:name, :space)')


def read_columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    """Return the columns of a table or view by name; none where there is no such table.

    A table's only key column is its row id where it is declared INTEGER, and never NULL then.
    """
    space = table.schema or "main"
    rows = connection.execute(_COLUMNS, {"name": table.name, "space": space}).all()
    # Only a key of one column can be the row id.
    alone = sum(1 for row in rows if row[3]) == 1
    found = {}
    for name, kind, filled, place in rows:
        row_id = alone and place and kind.upper() == "INTEGER"
        found[name] = Stored(kind.partition("(")[0].strip().lower(), not (filled or row_id))
    return found


def check_file(path: str | None) -> None:
    """Raise DatabaseError unless `path` is an SQLite database file (or names one in memory)."""
    # A URI may name anything, and its options say whether it is made.
    if path in (None, "", ":memory:") or str(path).startswith("file:"):
        return
    file = Path(str(path))
    try:
        # Looked at before it is opened: SQLite would make an empty database of a mistyped path.
        with file.open("rb") as opened:
            head = opened.read(len(_MAGIC))
    except FileNotFoundError:
        hint = "Check the path; `vrelko demo` makes a sample database to try things on"
        if file.suffix == ".toml":
            hint = "That looks like a pages file; name a database: a URL or an SQLite file"
        raise DatabaseError(
            f"there is no database file {str(file)!r}",
            hint,
            "database-missing",
        ) from None
    except OSError as error:
        raise DatabaseError(
            f"the file {str(file)!r} cannot be read: {error.strerror}",
            "Check its permissions",
            "database-unreadable",
        ) from error
    if head not in (b"", _MAGIC) and file.suffix == ".toml":
        raise DatabaseError(
            f"{str(file)!r} is a pages file, not a database",
            "Name the database: a URL, or the path of an SQLite file",
            "database-format",
        )
    # A file of no bytes is a database without tables.
    if head not in (b"", _MAGIC):
        raise DatabaseError(
            f"the file {str(file)!r} is not an SQLite database",
            "Name a database file, or a URL such as sqlite:///path/to/file.db",
            "database-format",
        )


def forbid_writes(engine: Engine) -> None:
    """Make every connection of the engine read-only."""

    @event.listens_for(engine, "connect")
    def _query_only(connection: Any, _record: Any) -> None:
        connection.execute("PRAGMA query_only = ON")


@dataclass(slots=True)
class Steps:
    """How many virtual machine steps statements have taken, in units of `grain`."""

    grain: int
    count: int = 0


@contextmanager
def count_steps(
    connection: Connection, grain: int = 1, most_ms: float | None = None
) -> Iterator[Steps]:
    """Count the VM steps of the statements run inside the block, `grain` steps at a time.

    They are interrupted once `most_ms` milliseconds have passed.
    """
    # The driver's own connection has the handler; SQLAlchemy's has none.
    driver: Any = connection.connection.dbapi_connection
    steps = Steps(grain)
    until = None if most_ms is None else clock.now_s() + most_ms / 1000

    def tick() -> int:
        steps.count += grain
        return int(until is not None and clock.now_s() > until)

    driver.set_progress_handler(tick, grain)
    try:
        yield steps
    finally:
        driver.set_progress_handler(None, grain)
