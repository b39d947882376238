"""Tables of counted anchors: what they hold, and the pieces of SQL that make and fill them.

An anchor is the key of every so many rows of an order, with the number of rows since the anchor
before it. A change log tells what came and went since these numbers were counted: triggers append
to it, and nothing else, so writers wait for nobody.
"""

from __future__ import annotations

from collections.abc import Callable
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


class AnchorNames:
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
        """The name of a trigger, of the schema where triggers are that of schemas."""
        return self.in_schema(f"vrelko_{self.tables.name}_{ending}")

    def in_schema(self, name: str) -> str:
        """A quoted name, with the table's schema ahead of it where it has one."""
        schema = self.tables.table.schema
        named = self.quote(name)
        return named if schema is None else f"{self.quote(schema)}.{named}"

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

    def state_table(self) -> str:
        """The statement that makes the table of the anchors' state."""
        return (
            f"CREATE TABLE {self.state} (version bigint NOT NULL, every integer NOT NULL, "
            "folded bigint NOT NULL)"
        )
