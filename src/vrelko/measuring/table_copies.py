"""Copies that may be changed: of a whole SQLite file, or of some of a listing's rows."""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, MetaData, Table, create_engine, event, inspect

from vrelko.engines.registry import database_file
from vrelko.errors import DatabaseError

MOST_BYTES = 2_000_000_000
"""Larger database files are not copied."""


@contextmanager
def copy_of_file(engine: Engine) -> Iterator[Engine]:
    """Lend an engine on a temporary copy of an SQLite database file. Raises DatabaseError."""
    source = database_file(engine.url)
    if source is None:
        raise DatabaseError(
            f"only an SQLite file can be copied by itself, not a database of {engine.dialect.name}",
            "For a replay, name a database to copy the rows to (--copy URL, copy=engine)",
            "replay-engine",
        )
    # Told before copying, not when the disk is full.
    size = Path(source).stat().st_size
    if size > MOST_BYTES:
        raise DatabaseError(
            f"the database file of {size / 1e9:.1f} GB is too large to copy",
            "Work on a smaller copy of your own",
            "replay-size",
        )
    with tempfile.TemporaryDirectory(prefix="vrelko-") as folder:
        path = Path(folder) / "copy.db"
        _backup(source, path)
        copy = create_engine(f"sqlite:///{path}")
        event.listen(copy, "connect", _forgo_safety)
        try:
            yield copy
        finally:
            copy.dispose()
            shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def copy_of_rows(copy: Engine, table: Table, rows: Sequence[dict[str, Any]]) -> Iterator[Engine]:
    """Lend an engine whose database holds a table of this name with these rows, for the time.

    The table must not be there before; it is dropped again. Raises DatabaseError.
    """
    if inspect(copy).has_table(table.name, schema=table.schema):
        raise DatabaseError(
            f"the database to copy to already has a table {table.name!r}",
            "Name an empty database: the replay makes the table there, and drops it again",
            "replay-table",
        )
    # Of its own metadata: the caller's table keeps its constraints.
    made = table.to_metadata(MetaData())
    # The tables that they point to are not copied.
    for constraint in list(made.foreign_key_constraints):
        made.constraints.discard(constraint)
    # Made ahead of the block that drops it: a table that somebody else made meanwhile is theirs.
    with copy.begin() as connection:
        made.create(connection)
    try:
        if rows:
            with copy.begin() as connection:
                connection.execute(made.insert(), list(rows))
        yield copy
    finally:
        made.drop(copy, checkfirst=True)


def _forgo_safety(connection: Any, _record: Any) -> None:
    """Make commits cheap, as the copy need not survive a crash, and let views be held."""
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("PRAGMA journal_mode = WAL")


def _backup(source: str, path: Path) -> None:
    """Copy a database consistently, whoever writes to it meanwhile."""
    with closing(sqlite3.connect(source)) as from_, closing(sqlite3.connect(path)) as to:
        # The file's bytes alone may be half of a transaction; the write-ahead log holds the rest.
        from_.backup(to)
