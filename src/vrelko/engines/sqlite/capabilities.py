"""SQLite: what it can do, how its files are checked and its work is counted."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
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
from vrelko.engines.sqlite.catalog import is_without_rowid
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
_KEY_INDEX = text("SELECT 1 FROM pragma_index_list(:name, :space) WHERE origin = 'pk'")
_SET_OPERATION = re.compile(r"\b(UNION|INTERSECT|EXCEPT)\b", re.IGNORECASE)


def read_columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    """Return the columns of a table or view by name; none where there is no such table.

    A key is the row id, and never NULL, where it has no index of its own: a column declared
    INTEGER, but not one declared INT, or with DESC. A key WITHOUT ROWID is never NULL either.
    """
    space = table.schema or "main"
    names = {"name": table.name, "space": space}
    rows = connection.execute(_COLUMNS, names).all()
    keyed = any(row[3] for row in rows)
    indexed = keyed and connection.execute(_KEY_INDEX, names).first() is not None
    filled_key = keyed and (not indexed or is_without_rowid(connection, table.name, space))
    views = _views(connection, space) if not keyed else {}
    return {
        name: Stored(
            kind.partition("(")[0].strip().lower(),
            not (filled or (place and filled_key)),
            mixed=_is_set_operation(table.name, views),
            of_view=table.name.lower() in views,
        )
        for name, kind, filled, place in rows
    }


def shows(cursor: Any, wires: Sequence[tuple[int, Any, bool]]) -> bool | None:
    """Tell that nothing differs: results of SQLite say no more of a column than its name."""
    return True


def database_of(connection: Any) -> tuple[Any, ...]:
    """Return the files of a connection, of one in memory what tells it from others."""
    cursor = connection.connection.cursor()
    cursor.execute("PRAGMA database_list")
    files = tuple((name, file) for _, name, file in cursor.fetchall())
    cursor.close()
    in_memory = any(not file for name, file in files if name == "main")
    return (*files, id(connection.connection.dbapi_connection)) if in_memory else files


def schemas_of(connection: Any) -> str:
    """Return that names without a schema are looked for in one place alone."""
    return ""


def _views(connection: Any, space: str) -> dict[str, str]:
    """Return the text of each view by its name in lower case."""
    quoted = connection.dialect.identifier_preparer.quote(space).replace(":", "\\:")
    asked = text(f"SELECT name, sql FROM {quoted}.sqlite_master WHERE type = 'view'")
    return {str(view).lower(): str(sql) for view, sql in connection.execute(asked)}


def _is_set_operation(name: str, views: Mapping[str, str]) -> bool:
    """Tell whether a name is that of a view with a UNION or the like, in it or in views it reads.

    Told by words of its text: one that stands in a string or a name counts too.
    """
    waiting, read = [name.lower()], set()
    while waiting:
        one = waiting.pop()
        if one not in views or one in read:
            continue
        read.add(one)
        if _SET_OPERATION.search(views[one]):
            return True
        waiting += [other for other in views if other in views[one].lower()]
    return False


def affinity_of(kind: str) -> str:
    """Return how a column of a declared type converts what it is compared with.

    "numeric", "text" or "" for not at all (SQLite's documentation, "Datatypes", section 3.1).
    """
    name = kind.lower()
    if "int" in name:
        return "numeric"
    if any(part in name for part in ("char", "clob", "text")):
        return "text"
    return "" if not name or "blob" in name else "numeric"


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
