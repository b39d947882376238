"""Tables and triggers of counted anchors: what they hold, and the statements that make them.

An anchor is the key of every so many rows of an order, with the number of rows since the anchor
before it. A change log tells what came and went since these numbers were counted: triggers append
to it, and nothing else, so writers wait for nobody.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from sqlalchemy import BigInteger, Column, ColumnElement, Integer, MetaData, Table, literal_column
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql import visitors

from vrelko.core.order import Order, Term

LEVELS = 3
"""Each level holds the number of rows between a few hundred anchors of the one below."""


@dataclass(frozen=True)
class AnchorTables:
    """The anchors and the log of one order of a table.

    `keys`: the order's columns with their terms; `parts`: columns that an equality fixes, which
    divide the table into orders of their own; `condition`: which rows are in the listing at all.
    `types`: declared types and collations by column, for engines that copy none.
    """

    name: str
    table: Table
    keys: tuple[tuple[Column[Any], Term], ...]
    parts: tuple[Column[Any], ...]
    condition: ColumnElement[bool] | None = None

    @cached_property
    def anchors(self) -> Table:
        """The table of anchors: level, part, key, and the rows since the anchor before."""
        return self._made(
            f"vrelko_anchor_{self.name}",
            Column("id", BigInteger, primary_key=True),
            Column("lvl", Integer, nullable=False),
            Column("n", Integer, nullable=False),
        )

    @cached_property
    def log(self) -> Table:
        """The change log: part, key, and 1 for a row that came, -1 for one that went."""
        return self._made(
            f"vrelko_log_{self.name}",
            Column("seq", BigInteger, primary_key=True),
            Column("d", Integer, nullable=False),
        )

    @cached_property
    def state(self) -> Table:
        """One row: the version of the anchors, a row an anchor, and when the log was folded.

        `version` is drawn anew with each change, so that none comes again after a restore; it is
        below 0 where no triggers keep the anchors up. `folded` counts seconds since 1970.
        """
        return Table(
            f"vrelko_state_{self.name}",
            MetaData(),
            Column("version", BigInteger, nullable=False),
            Column("every", Integer, nullable=False),
            Column("folded", BigInteger, nullable=False),
            schema=self.table.schema,
        )

    @property
    def order(self) -> Order:
        """The order of the anchors, by the names of their columns."""
        terms = (term for _, term in self.keys)
        return Order(
            tuple(
                Term(f"k{i}", term.descending, term.nulls if term.nullable else None)
                for i, term in enumerate(terms)
            )
        )

    @property
    def columns(self) -> list[tuple[str, Column[Any]]]:
        """The columns of parts and keys, by their names in anchors and log."""
        parts = [(f"p{i}", column) for i, column in enumerate(self.parts)]
        return parts + [(f"k{i}", column) for i, (column, _) in enumerate(self.keys)]

    def _made(self, name: str, *own: Column[Any]) -> Table:
        nullable = {f"k{i}": term.nullable for i, (_, term) in enumerate(self.keys)}
        copied = [
            Column(called, column.type, nullable=nullable.get(called, True))
            for called, column in self.columns
        ]
        return Table(name, MetaData(), *own, *copied, schema=self.table.schema)


def create_statements(
    tables: AnchorTables, dialect: Dialect, types: dict[str, str], *, static: bool = False
) -> list[str]:
    """Return the statements that make anchors, log and triggers; without triggers when `static`.

    `types`: declared type and collation of each column, for SQLite, which copies neither.
    """
    made = list(_CREATE[_engine(dialect)](_Names(tables, dialect), types))
    triggers = ("CREATE TRIGGER", "CREATE FUNCTION")
    return [one for one in made if not (static and one.startswith(triggers))]


def drop_statements(tables: AnchorTables, dialect: Dialect) -> list[str]:
    """Return the statements that leave nothing of anchors, log and triggers."""
    return list(_DROP[_engine(dialect)](_Names(tables, dialect)))


def _engine(dialect: Dialect) -> str:
    return "mariadb" if dialect.name == "mysql" else dialect.name


class _Names:
    """Names and pieces of SQL of one set of anchors on one engine."""

    def __init__(self, tables: AnchorTables, dialect: Dialect) -> None:
        prepare = dialect.identifier_preparer
        self.tables, self.dialect = tables, dialect
        self.quote: Callable[[str], str] = prepare.quote_identifier
        self.source = prepare.format_table(tables.table)
        self.anchors = prepare.format_table(tables.anchors)
        self.log = prepare.format_table(tables.log)
        self.state = prepare.format_table(tables.state)
        self.names = ", ".join(name for name, _ in tables.columns)

    def trigger(self, ending: str) -> str:
        name = self.quote(f"vrelko_{self.tables.name}_{ending}")
        schema = self.tables.table.schema
        if schema is None or self.dialect.name == "postgresql":  # there it is the table's
            return name
        return f"{self.quote(schema)}.{name}"

    def copied(self) -> str:
        """The columns of the source under their names in anchors and log."""
        return ", ".join(f"{self.quote(c.name)} AS {name}" for name, c in self.tables.columns)

    def values(self, row: str) -> str:
        """The values of NEW or OLD that the log takes."""
        return ", ".join(f"{row}.{self.quote(column.name)}" for _, column in self.tables.columns)

    def insert(self, row: str, d: int) -> str:
        """The statement that logs NEW or OLD, where the listing has such a row."""
        head = f"INSERT INTO {self.log} ({self.names}, d)"
        where = self.holds(row)
        return f"{head} SELECT {self.values(row)}, {d}" + (f" WHERE {where}" if where else "")

    def holds(self, row: str) -> str:
        """The listing's own condition, of NEW or OLD."""
        condition = self.tables.condition
        if condition is None:
            return ""

        def named(element: Any, **_: Any) -> Any:
            if isinstance(element, Column) and element.table is self.tables.table:
                return literal_column(f"{row}.{self.quote(element.name)}", element.type)
            return None

        changed = visitors.replacement_traverse(condition, {}, named)
        return str(changed.compile(dialect=self.dialect, compile_kwargs={"literal_binds": True}))

    def watched(self) -> list[str]:
        """The columns whose change moves a row: of parts, keys and the condition."""
        found = [column.name for _, column in self.tables.columns]
        if self.tables.condition is not None:
            found += [
                one.name
                for one in visitors.iterate(self.tables.condition)
                if isinstance(one, Column)
            ]
        return [self.quote(name) for name in dict.fromkeys(found)]

    def index(self, lead: str, last: str = "", nulls: bool = False) -> str:
        """The columns of an index in the order of the keys."""
        parts = [name for name, _ in self.tables.columns if name.startswith("p")]
        keys = []
        for term in self.tables.order.terms:
            text = term.name + (" DESC" if term.descending else "")
            if nulls and term.nulls:
                text += f" NULLS {term.nulls.upper()}"
            keys.append(text)
        return ", ".join(one for one in (lead, *parts, *keys, last) if one)


def _create_postgresql(n: _Names, types: dict[str, str]) -> Iterator[str]:
    yield _state(n)
    yield f"CREATE TABLE {n.log} AS SELECT 0::smallint AS d, {n.copied()} FROM {n.source} {_NONE}"
    yield f"ALTER TABLE {n.log} ADD COLUMN seq {_IDENTITY}"
    yield f"CREATE INDEX ON {n.log} ({n.index('', nulls=True)}) INCLUDE (d)"
    yield (
        f"ALTER TABLE {n.log} SET (autovacuum_vacuum_scale_factor = 0, "
        "autovacuum_vacuum_threshold = 2000)"
    )
    yield (
        f"CREATE FUNCTION {_function(n)}() RETURNS trigger LANGUAGE plpgsql AS $vrelko$ BEGIN\n"
        "IF TG_OP = 'TRUNCATE' THEN "
        f"TRUNCATE {n.log}, {n.anchors}, {n.state}; RETURN NULL; END IF;\n"
        f"IF TG_OP <> 'INSERT' THEN {n.insert('old', -1)}; END IF;\n"
        f"IF TG_OP <> 'DELETE' THEN {n.insert('new', 1)}; END IF;\n"
        "RETURN NULL; END $vrelko$"
    )
    old, new = (", ".join(f"{row}.{name}" for name in n.watched()) for row in ("old", "new"))
    run = f"EXECUTE FUNCTION {_function(n)}()"
    yield (
        f"CREATE TRIGGER {n.trigger('rows')} AFTER INSERT OR DELETE ON {n.source} "
        f"FOR EACH ROW {run}"
    )
    yield (
        f"CREATE TRIGGER {n.trigger('moves')} AFTER UPDATE ON {n.source} FOR EACH ROW "
        f"WHEN (({old}) IS DISTINCT FROM ({new})) {run}"
    )
    yield (
        f"CREATE TRIGGER {n.trigger('whole')} AFTER TRUNCATE ON {n.source} FOR EACH STATEMENT {run}"
    )
    yield (
        f"CREATE TABLE {n.anchors} AS SELECT 0::smallint AS lvl, 0 AS n, {n.copied()} "
        f"FROM {n.source} {_NONE}"
    )
    yield f"ALTER TABLE {n.anchors} ADD COLUMN id {_IDENTITY}"
    yield f"CREATE INDEX ON {n.anchors} ({n.index('lvl', nulls=True)})"


def _state(n: _Names) -> str:
    return (
        f"CREATE TABLE {n.state} (version bigint NOT NULL, every integer NOT NULL, "
        "folded bigint NOT NULL)"
    )


_NONE = "WHERE false"
_IDENTITY = "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY"


def _function(n: _Names) -> str:
    name = n.quote(f"vrelko_{n.tables.name}_log")
    schema = n.tables.table.schema
    return name if schema is None else f"{n.quote(schema)}.{name}"


def _drop_postgresql(n: _Names) -> Iterator[str]:
    for ending in ("rows", "moves", "whole"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)} ON {n.source}"
    yield f"DROP FUNCTION IF EXISTS {_function(n)}()"
    yield f"DROP TABLE IF EXISTS {n.log}, {n.anchors}, {n.state}"


def _create_mariadb(n: _Names, types: dict[str, str]) -> Iterator[str]:
    yield _state(n)
    # AUTO_INCREMENT would take a lock of its own, and fail with 1467 under many writers.
    yield from _copy_mariadb(n, n.log, "0 AS d", "seq", "DEFAULT uuid_short()", n.index("", "d"))
    same = " AND ".join(f"old.{name} <=> new.{name}" for name in n.watched())
    for ending, event, body in (
        ("rows", "INSERT", n.insert("new", 1)),
        ("gone", "DELETE", n.insert("old", -1)),
        (
            "moves",
            "UPDATE",
            f"IF NOT ({same}) THEN {n.insert('old', -1)}; {n.insert('new', 1)}; END IF",
        ),
    ):
        yield (
            f"CREATE TRIGGER {n.trigger(ending)} AFTER {event} ON {n.source} FOR EACH ROW {body}"
        )
    own = "0 AS lvl, 0 AS n"
    yield from _copy_mariadb(n, n.anchors, own, "id", "AUTO_INCREMENT", n.index("lvl"))


def _copy_mariadb(
    n: _Names, table: str, own: str, key: str, numbered: str, index: str
) -> Iterator[str]:
    """Make a table with the source's columns, types and collations."""
    yield f"CREATE TABLE {table} AS SELECT {own}, {n.copied()} FROM {n.source} {_NONE}"
    yield f"ALTER TABLE {table} ADD {key} bigint unsigned {numbered} PRIMARY KEY FIRST"
    for i, (_, term) in enumerate(n.tables.keys):
        if not term.nullable:  # a default of the source would stand for what is left out
            yield f"ALTER TABLE {table} ALTER k{i} DROP DEFAULT"
    yield f"ALTER TABLE {table} ADD INDEX vrelko_key ({index})"


def _drop_mariadb(n: _Names) -> Iterator[str]:
    for ending in ("rows", "gone", "moves"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)}"
    yield f"DROP TABLE IF EXISTS {n.log}, {n.anchors}, {n.state}"


def _create_sqlite(n: _Names, types: dict[str, str]) -> Iterator[str]:
    copied = ", ".join(f"{name} {types[column.name]}" for name, column in n.tables.columns)
    yield _state(n)
    key = "seq INTEGER PRIMARY KEY AUTOINCREMENT"  # a number used again would name another change
    yield f"CREATE TABLE {n.log} ({key}, d INTEGER, {copied})"
    yield f"CREATE INDEX {n.quote(n.tables.log.name + '_key')} ON {n.log} ({n.index('', 'd')})"
    old, new = (", ".join(f"{row}.{name}" for name in n.watched()) for row in ("old", "new"))
    for ending, event, body in (
        ("rows", f"INSERT ON {n.source}", n.insert("new", 1)),
        ("gone", f"DELETE ON {n.source}", n.insert("old", -1)),
        (
            "moves",
            f"UPDATE ON {n.source} WHEN ({old}) IS NOT ({new})",
            f"{n.insert('old', -1)}; {n.insert('new', 1)}",
        ),
    ):
        yield f"CREATE TRIGGER {n.trigger(ending)} AFTER {event} BEGIN {body}; END"
    yield f"CREATE TABLE {n.anchors} (id INTEGER PRIMARY KEY, lvl INTEGER, n INTEGER, {copied})"
    name = n.quote(n.tables.anchors.name + "_key")
    yield f"CREATE INDEX {name} ON {n.anchors} ({n.index('lvl')})"


def _drop_sqlite(n: _Names) -> Iterator[str]:
    for ending in ("rows", "gone", "moves"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)}"
    for table in (n.log, n.anchors, n.state):
        yield f"DROP TABLE IF EXISTS {table}"


_CREATE: dict[str, Callable[[_Names, dict[str, str]], Iterator[str]]] = {
    "sqlite": _create_sqlite,
    "postgresql": _create_postgresql,
    "mariadb": _create_mariadb,
}
_DROP: dict[str, Callable[[_Names], Iterator[str]]] = {
    "sqlite": _drop_sqlite,
    "postgresql": _drop_postgresql,
    "mariadb": _drop_mariadb,
}
