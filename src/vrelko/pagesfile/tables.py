"""The tables that a pages file names: reflected from a database, or made of facts."""

from __future__ import annotations

from contextlib import suppress
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
    Select,
    String,
    Table,
    Time,
    Uuid,
    column,
    inspect,
    literal_column,
    select,
    text,
)
from sqlalchemy.engine.reflection import Inspector
from sqlalchemy.exc import DBAPIError
from sqlalchemy.sql.selectable import Subquery

from vrelko.core.facts import Facts
from vrelko.engines.registry import database_errors, record_of
from vrelko.errors import FactsError, PagesFileError, nearest
from vrelko.sql.portable_types import fit_other_engines

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
        known, space, name = _known(inspector, None), None, table
        if table not in known and "." in table:
            space, _, name = table.partition(".")
            # A dot may be part of a table's own name.
            if space in inspector.get_schema_names():
                known = [f"{space}.{one}" for one in _known(inspector, space)]
        if table not in known:
            raise _missing(file, listing, table, known, "the database does not have")
        # Without the tables that it refers to: a catalog of a thousand tables would be read for
        # one.
        found = Table(name, MetaData(), schema=space, autoload_with=engine, resolve_fks=False)
    for one in found.columns:  # MariaDB's floats are reflected as decimals of ten digits
        if isinstance(one.type, Float) and one.type.asdecimal:
            one.type = Double(asdecimal=False)
    fit_other_engines(found)
    return found


def _known(inspector: Inspector, schema: str | None) -> list[str]:
    """Return the names of what rows can be read from in a schema."""
    names = [*inspector.get_table_names(schema), *inspector.get_view_names(schema)]
    # SQLAlchemy says so of engines that have none.
    with suppress(NotImplementedError):
        names += inspector.get_materialized_view_names(schema)
    # Only an engine that reads tables of other servers has an inspector that lists them.
    foreign = getattr(inspector, "get_foreign_table_names", None)
    return names if foreign is None else [*names, *foreign(schema)]


def table_of_sql(file: Path, engine: Engine, listing: str, sql: str) -> Subquery:
    """Return a query's rows as something to select from, its columns as the database names them.

    The query is sent once without asking for a row. Raises PagesFileError.
    """
    statement = text(sql.strip().rstrip(";"))
    asked = statement.columns().subquery("vrelko_asked")
    names: list[str] = []
    try:
        with engine.connect() as connection:
            # The database itself names the columns; nothing of the query is parsed.
            probe: Select[Any] = select(literal_column("*")).select_from(asked).limit(0)
            # Without values: it is asked what it would give, and NULL fits every type.
            values = dict.fromkeys(statement._bindparams)
            names = list(connection.execute(probe, values).keys())
            _refuse_twice(file, listing, names)
            # Asked again by name, as a star has no types on every driver.
            bare = statement.columns(*(column(name) for name in names)).subquery("vrelko_asked")
            kinds = record_of(connection.dialect).read_kinds(
                connection, select(bare).limit(0), values
            )
    except DBAPIError as error:
        raise PagesFileError(
            f"{file}: listing.{listing}.sql is refused by the database: {error.orig}",
            "Correct the query; it is read as it stands, in a subquery",
            "pages-sql",
        ) from error
    columns = [
        # Without a type known the driver's value is taken as it comes.
        column(name, _type_of(kind.kind) if kind is not None else None)
        for name, kind in zip(names, kinds, strict=True)
    ]
    return statement.columns(*columns).subquery("vrelko_sql")


def _refuse_twice(file: Path, listing: str, names: list[str]) -> None:
    """Raise PagesFileError where two columns have one name; SQLite tells them as x and x:1."""
    if len(set(names)) < len(names) or any(
        name.partition(":1")[0] in names[:i] for i, name in enumerate(names)
    ):
        raise PagesFileError(
            f"{file}: listing.{listing}.sql gives two columns of one name",
            "Name each column differently: SELECT a.id, b.id AS other_id …",
            "pages-sql",
        )


def table_of_facts(file: Path, facts: Facts, listing: str, table: str) -> Table:
    """Return a table as facts describe it. Raises PagesFileError."""
    # Facts stand for a database here: what they lack cannot be looked up.
    known = [one.name for one in facts.tables]
    if table not in known:
        raise _missing(file, listing, table, known, "the facts do not have")
    found = facts.table(table)
    table = found.bare_name
    columns = [
        Column(
            one.name,
            # Near enough: facts serve plans, and no value passes through these types.
            _type_of(one.type),
            primary_key=one.name in found.primary_key,
            nullable=one.nullable and one.name not in found.primary_key,
        )
        for one in found.columns
    ]
    return Table(table, MetaData(), *columns, schema=found.schema)


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
    # Types nobody foresaw (enumerations, networks, citext) compare as text does, for a plan.
    return String()


def _missing(file: Path, listing: str, table: str, known: list[str], who: str) -> PagesFileError:
    return PagesFileError(
        f"{file}: listing.{listing}.table names {table!r}, which {who}",
        nearest(table, known, otherwise="There is no table at all"),
        "pages-table",
    )
