"""The tables that a pages file names: reflected from a database, or made of facts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Date,
    DateTime,
    Double,
    Engine,
    Float,
    Integer,
    LargeBinary,
    MetaData,
    Numeric,
    String,
    Table,
    Time,
    Uuid,
    inspect,
)

from vrelko.core.facts import Facts
from vrelko.engines.registry import database_errors
from vrelko.errors import FactsError, PagesFileError, nearest

_TYPES: tuple[tuple[str, Any], ...] = (
    ("BIGINT", BigInteger), ("INT", Integer), ("SERIAL", Integer), ("BOOL", Boolean),
    ("TIMESTAMP", DateTime), ("DATETIME", DateTime), ("DATE", Date), ("TIME", Time),
    ("DOUB", Double), ("REAL", Double), ("FLOA", Double), ("NUM", Numeric), ("DECIM", Numeric),
    ("UUID", Uuid), ("BLOB", LargeBinary), ("BYTEA", LargeBinary), ("BINARY", LargeBinary),
)  # fmt: skip
"""The first part that a type's name holds decides; any other is text."""


def reflect_table(file: Path, engine: Engine, listing: str, table: str) -> Table:
    """Return a table as the database has it. Raises PagesFileError and DatabaseError."""
    with database_errors("reading of the catalog"):
        inspector = inspect(engine)
        known = [*inspector.get_table_names(), *inspector.get_view_names()]
        if table not in known:
            raise _missing(file, listing, table, known, "the database does not have")
        found = Table(table, MetaData(), autoload_with=engine, resolve_fks=False)
    for column in found.columns:  # MariaDB's floats are reflected as decimals of ten digits
        if isinstance(column.type, Float) and column.type.asdecimal:
            column.type = Double(asdecimal=False)
    return found


def table_of_facts(file: Path, facts: Facts, listing: str, table: str) -> Table:
    """Return a table as facts describe it. Raises PagesFileError."""
    known = [one.name for one in facts.tables]
    if table not in known:
        raise _missing(file, listing, table, known, "the facts do not have")
    found = facts.table(table)
    columns = [
        Column(one.name, _type_of(one.type), primary_key=one.name in found.primary_key,
               nullable=one.nullable and one.name not in found.primary_key)
        for one in found.columns
    ]  # fmt: skip
    return Table(table, MetaData(), *columns)


def read_facts(path: Path) -> Facts:
    """Return the facts of a file. Raises FactsError."""
    try:
        return Facts.from_json(path.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise FactsError(
            f"the facts file {str(path)!r} cannot be read: {error}",
            "Write one with `vrelko survey -o`",
            "facts-unreadable",
        ) from error


def _type_of(name: str) -> Any:
    kind = name.upper()
    for part, type_ in _TYPES:
        if part in kind:
            return type_()
    return String()


def _missing(file: Path, listing: str, table: str, known: list[str], who: str) -> PagesFileError:
    return PagesFileError(
        f"{file}: listing.{listing}.table names {table!r}, which {who}",
        nearest(table, known, otherwise="There is no table at all"),
        "pages-table",
    )
