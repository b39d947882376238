"""Tables of counted anchors: what they hold, and the pieces of SQL that make and fill them.

An anchor is the key of every so many rows of an order, with the number of rows since the anchor
before it. A change log tells what came and went since these numbers were counted: triggers append
to it, and nothing else, so writers wait for nobody. All orders of a listing share one log.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from sqlalchemy import (
    BigInteger,
    Column,
    ColumnElement,
    Integer,
    MetaData,
    String,
    Table,
    literal_column,
)
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql import visitors

from vrelko.core.order import Order, Term
from vrelko.sql.sources import own_column

LEVELS = 3
"""Each level holds the number of rows between a few hundred anchors of the one below."""


@dataclass(frozen=True)
class AnchorTables:
    """The anchors of one order of a table, and the log that they share with its other orders.

    `group`: what the names of log, state and triggers end with; `mark`: what tells this order's
    anchors from the others' there. `keys`: the order's columns with their terms; `parts`: columns
    that an equality fixes, which divide the table into orders of their own; `logged`: the key
    columns of all orders; `condition`: which rows are in the listing at all.
    """

    group: str
    mark: str
    table: Table
    keys: tuple[tuple[Column[Any], Term], ...]
    parts: tuple[Column[Any], ...]
    logged: tuple[Column[Any], ...]
    condition: ColumnElement[bool] | None = None

    @cached_property
    def anchors(self) -> Table:
        """The table of anchors: level, part, key, and the rows since the anchor before."""
        nullable = {f"k{i}": term.nullable for i, (_, term) in enumerate(self.keys)}
        return Table(
            f"{self.anchors_of_group}{self.mark}",
            MetaData(),
            # Keys may be long and hold NULLs, so anchors are told apart by a number.
            Column("id", BigInteger, primary_key=True),
            Column("lvl", Integer, nullable=False),
            Column("n", Integer, nullable=False),
            *(
                Column(name, column.type, nullable=nullable.get(name, True))
                for name, column in self.columns
            ),
            schema=self.table.schema,
        )

    @property
    def mark_of_all(self) -> str:
        """What tells this order's anchors from all others, of whatever listing."""
        return f"{self.group}_{self.mark}"

    @property
    def anchors_of_group(self) -> str:
        """What the names of all orders' anchors begin with."""
        return f"vrelko_anchor_{self.group}_"

    @cached_property
    def log(self) -> Table:
        """The change log: part, key, and 1 for a row that came, -1 for one that went.

        Under the names that the keys have in this order; other orders' columns are left out.
        """
        # Orders share the log's columns, and each has names of its own for its keys.
        named = {column.name: name for name, column in self.log_columns}
        nullable = {f"k{i}": term.nullable for i, (_, term) in enumerate(self.keys)}
        return Table(
            f"vrelko_log_{self.group}",
            MetaData(),
            # Only so that rows can be told apart and deleted once they are folded; it tells no
            # order of commits.
            Column("seq", BigInteger, primary_key=True),
            Column("d", Integer, nullable=False),
            *(
                Column(
                    name if name.startswith("p") else named[column.name],
                    column.type,
                    key=name,
                    nullable=nullable.get(name, True),
                )
                for name, column in self.columns
            ),
            schema=self.table.schema,
        )

    @cached_property
    def state(self) -> Table:
        """A row an order: the version of its anchors, a row an anchor, when the log was folded.

        `version` is drawn anew with each change, so that none comes again after a restore; it is
        below 0 where no triggers keep the anchors up, and 0 while nobody is to go by them: they are
        being built, or were found wrong. `folded` counts seconds since 1970; it is below 0 for
        those found wrong.
        """
        return Table(
            f"vrelko_state_{self.group}",
            MetaData(),
            Column("mark", String(20), primary_key=True),
            Column("version", BigInteger, nullable=False),
            Column("every", Integer, nullable=False),
            Column("folded", BigInteger, nullable=False),
            schema=self.table.schema,
        )

    @property
    def order(self) -> Order:
        """The order of the anchors, by the names of their columns."""
        # NULLs in the place that the listing's order gives them, whatever the engine's own is.
        terms = (term for _, term in self.keys)
        return Order(
            tuple(
                Term(f"k{i}", term.descending, term.nulls if term.nullable else None)
                for i, term in enumerate(terms)
            )
        )

    @property
    def columns(self) -> list[tuple[str, Column[Any]]]:
        """The columns of parts and keys, by their names among the anchors."""
        return self._parts() + [(f"k{i}", column) for i, (column, _) in enumerate(self.keys)]

    @property
    def log_columns(self) -> list[tuple[str, Column[Any]]]:
        """The columns of parts and of all orders' keys, by their names in the log."""
        return self._parts() + [(f"c{i}", column) for i, column in enumerate(self.logged)]

    def _parts(self) -> list[tuple[str, Column[Any]]]:
        return [(f"p{i}", column) for i, column in enumerate(self.parts)]


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
        self.log_index = f"{tables.log.name}_{tables.mark}"

    def trigger(self, ending: str) -> str:
        """The name of a trigger, of the schema where triggers are that of schemas."""
        return self.in_schema(f"vrelko_{self.tables.group}_{ending}")

    def in_schema(self, name: str) -> str:
        """A quoted name, with the table's schema ahead of it where it has one."""
        schema = self.tables.table.schema
        named = self.quote(name)
        return named if schema is None else f"{self.quote(schema)}.{named}"

    def copied(self, columns: list[tuple[str, Column[Any]]]) -> str:
        """Columns of the source under their names in anchors or log."""
        return ", ".join(f"{self.quote(column.name)} AS {name}" for name, column in columns)

    def insert(self, row: str, d: int, log: str = "") -> str:
        """The statement that logs NEW or OLD, where the listing has such a row.

        `log`: the log's name where an engine does not take the full one in a trigger.
        """
        columns = self.tables.log_columns
        names = ", ".join(name for name, _ in columns)
        values = ", ".join(f"{row}.{self.quote(column.name)}" for _, column in columns)
        # An INSERT … SELECT: a VALUES could not be left out where the row is not listed.
        where = self.holds(row)
        head = f"INSERT INTO {log or self.log} ({names}, d) SELECT {values}, {d}"
        return f"{head} WHERE {where}" if where else head

    def holds(self, row: str) -> str:
        """The listing's own condition, of NEW or OLD."""
        condition = self.tables.condition
        if condition is None:
            return ""

        def named(element: Any, **_: Any) -> Any:
            found = own_column(element, self.tables.table) if isinstance(element, Column) else None
            if found is None:
                return None
            # A trigger knows the row as NEW or OLD, not by its table.
            return literal_column(f"{row}.{self.quote(found.name)}", found.type)

        changed = visitors.replacement_traverse(condition, {}, named)
        # A trigger's text takes no parameters, so constants are written out.
        return str(changed.compile(dialect=self.dialect, compile_kwargs={"literal_binds": True}))

    def watched(self) -> list[str]:
        """The columns whose change moves a row: of parts, keys and the condition."""
        found = [column.name for _, column in self.tables.log_columns]
        # A row may enter or leave the listing without any key of it being touched.
        if self.tables.condition is not None:
            found += [
                one.name
                for one in visitors.iterate(self.tables.condition)
                if isinstance(one, Column)
            ]
        return [self.quote(name) for name in dict.fromkeys(found)]

    def anchor_index(self, nulls: bool = False) -> str:
        """The columns of the anchors' index, in the order of the keys."""
        return self._index("lvl", self.tables.anchors, "", nulls)

    def log_keys(self, last: str = "", nulls: bool = False) -> str:
        """The columns of the log's index for this order."""
        return self._index("", self.tables.log, last, nulls)

    def _index(self, lead: str, table: Table, last: str, nulls: bool) -> str:
        keys = [name for name, _ in self.tables.columns if name.startswith("p")]
        for term in self.tables.order.terms:
            text = table.c[term.name].name + (" DESC" if term.descending else "")
            if nulls and term.nulls:
                text += f" NULLS {term.nulls.upper()}"
            keys.append(text)
        return ", ".join(one for one in (lead, *keys, last) if one)

    def state_table(self) -> str:
        """The statement that makes the table of the anchors' state."""
        return (
            f"CREATE TABLE {self.state} (mark varchar(20) NOT NULL PRIMARY KEY, "
            "version bigint NOT NULL, every integer NOT NULL, folded bigint NOT NULL)"
        )

    def forget_state(self) -> str:
        """The statement that forgets this order's anchors."""
        return f"DELETE FROM {self.state} WHERE mark = '{self.tables.mark}'"
