"""Copies that may be changed: of a whole SQLite file, or of some of a listing's rows."""

from __future__ import annotations

import re
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import (
    CheckConstraint,
    Column,
    Engine,
    ForeignKeyConstraint,
    MetaData,
    Table,
    create_engine,
    event,
    inspect,
)
from sqlalchemy.exc import CompileError, StatementError

from vrelko.engines.registry import database_file, engine_of
from vrelko.errors import DatabaseError
from vrelko.sql.portable_types import portable_type

MOST_BYTES = 2_000_000_000
"""Larger database files are not copied."""


@contextmanager
def copy_of_file(engine: Engine) -> Iterator[Engine]:
    """Lend an engine on a temporary copy of an SQLite database file. Raises DatabaseError."""
    source = database_file(engine.url)
    if source is None:
        name = engine_of(engine).name
        raise DatabaseError(
            f"only an SQLite file can be copied by itself, not a database of {name}",
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
def copy_of_rows(
    copy: Engine, source: Engine, table: Table, rows: Sequence[dict[str, Any]]
) -> Iterator[Engine]:
    """Lend an engine whose database holds a table of this name with these rows, for the time.

    `source`: where the rows are from. The table must not be there before; it is dropped again.
    Raises DatabaseError.
    """
    if inspect(copy).has_table(table.name, schema=table.schema):
        raise DatabaseError(
            f"the database to copy to already has a table {table.name!r}",
            "Name an empty database: the replay makes the table there, and drops it again",
            "replay-table",
        )
    made = _bare_table(table, same_engine=engine_of(source) is engine_of(copy))
    indexes = sorted(made.indexes, key=lambda index: str(index.name))
    made.indexes.clear()
    # Made ahead of the block that drops it: a table that somebody else made meanwhile is theirs.
    with _refused(copy), copy.begin() as connection:
        made.create(connection)
    try:
        with _refused(copy), copy.begin() as connection:
            # Within it: MariaDB keeps the table where an index that it cannot have is refused.
            for index in indexes:
                index.create(connection)
        if rows:
            with _refused(copy, "them"), copy.begin() as connection:
                connection.execute(made.insert(), list(rows))
        yield copy
    finally:
        made.drop(copy, checkfirst=True)


def _bare_table(table: Table, same_engine: bool) -> Table:
    """Return a table to hold whole rows as they are: it generates no value and checks none."""
    if not same_engine:
        # Without indexes, which change no row of a page; kinds of them are engines' own.
        columns = [
            Column(one.name, portable_type(one.type), primary_key=one.primary_key, key=one.key)
            for one in table.columns
        ]
        made = Table(table.name, MetaData(), *columns, schema=table.schema)
    else:
        # Of its own metadata: the caller's table keeps its constraints.
        made = table.to_metadata(MetaData())
    # The tables that they point to are not copied, and rows that are there need no test.
    for constraint in list(made.constraints):
        if isinstance(constraint, (ForeignKeyConstraint, CheckConstraint)):
            made.constraints.discard(constraint)
    for column in made.columns:
        # MariaDB would give a key of 0 the next number; others refuse values for such columns.
        column.autoincrement = False
        column.identity = column.computed = column.server_default = None
    return made


@contextmanager
def _refused(copy: Engine, what: str = "their table") -> Iterator[None]:
    """Turn a table, or rows, that an engine cannot have into a DatabaseError."""
    try:
        yield
    except (CompileError, StatementError) as error:
        said = re.sub(r"Compiler <.*?>", "it", str(getattr(error, "orig", error)))
        name = engine_of(copy).name
        raise DatabaseError(
            f"the rows cannot be copied to {name}, which refuses {what}: {said.rstrip('.')}",
            "Copy to a database of the same engine",
            "replay-table",
        ) from error


def _forgo_safety(connection: Any, _record: Any) -> None:
    """Make commits cheap, as the copy need not survive a crash, and let views be held."""
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("PRAGMA journal_mode = WAL")


def _backup(source: str, path: Path) -> None:
    """Copy a database consistently, whoever writes to it meanwhile."""
    with closing(sqlite3.connect(source)) as from_, closing(sqlite3.connect(path)) as to:
        # The file's bytes alone may be half of a transaction; the write-ahead log holds the rest.
        from_.backup(to)
