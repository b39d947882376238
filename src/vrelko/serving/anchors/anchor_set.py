"""The anchors of one order of a listing: which columns they have, made and dropped."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Column, Connection, Engine, bindparam, inspect, select, text
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BindParameter

from vrelko.core.order import Order
from vrelko.engines.registry import database_errors, dialect_of
from vrelko.errors import ListingError
from vrelko.serving.listing import Listing
from vrelko.serving.variants.variant import Variant
from vrelko.sql.anchor_tables import AnchorTables, create_statements, drop_statements
from vrelko.sql.conditions import bound_parameters
from vrelko.sql.sources import conjuncts

K, FAN = 1_000, 100
"""Rows of an anchor, and anchors of a level between two of the next one."""


@dataclass(frozen=True)
class AnchorSet:
    """The anchors of one order of a listing.

    `source` is the listing whose rows are counted, `parts` the parameters that divide it, in the
    order of the tables' columns; `anchors` and `log` are listings over the two tables.
    """

    tables: AnchorTables
    source: Listing
    order: str
    parts: tuple[str, ...]
    anchors: Listing
    log: Listing
    k: int = K
    fan: int = FAN

    def variant(self, connection: Any) -> Variant:
        """The variant whose rows are counted, on a connection."""
        return self.source.lent_variant(connection, self.order, dict.fromkeys(self.parts, 0))

    def log_keys(self, connection: Any) -> list[Any]:
        """The expressions that read the log's keys."""
        part = {f"p{i}": 0 for i in range(len(self.parts))}
        return [key.read for key in self.log.lent_variant(connection, None, part).source.keys]

    def part_params(self, params: Mapping[str, Any] | None) -> dict[str, Any]:
        """Return the part that a request's parameters mean, for anchors and log."""
        given = self.source.check_params(params)
        return {f"p{i}": given[name] for i, name in enumerate(self.parts)}

    def create(self, engine: Engine) -> None:
        """Make tables and triggers; anchors are built afterwards. Raises DatabaseError."""
        types = _types(engine, self.tables) if engine.dialect.name == "sqlite" else {}
        with database_errors("making of anchors"), engine.begin() as connection:
            for statement in create_statements(self.tables, engine.dialect, types):
                connection.exec_driver_sql(statement.replace("%", "%%"))

    def drop(self, engine: Engine) -> None:
        """Leave nothing of the anchors. Raises DatabaseError."""
        with database_errors("dropping of anchors"), engine.begin() as connection:
            for statement in drop_statements(self.tables, engine.dialect):
                connection.exec_driver_sql(statement.replace("%", "%%"))


def anchor_set(
    listing: Listing, connection: Any, order: str | None = None, k: int = K, fan: int = FAN
) -> AnchorSet:
    """Return the anchors that an order of a listing has, or would have.

    The listing reads one table; its conditions are equalities with required parameters, which
    divide it into parts, or take no parameters at all. Raises ListingError for any other, and for
    orders by expressions.
    """
    dialect = dialect_of(connection, listing.select)
    described, table = listing.described, listing.paged_table
    plain = not (described.wrapped or described.merged) and len(described.sources.tables) == 1
    if table is None or not plain or listing.steady.settle is not None:
        raise _refused(listing, "reads more than the plain rows of one table")
    chosen = order or str(listing.orders(dialect.name)[0])
    parts, fixed = _conditions(listing)
    active = listing.filters.active(dict.fromkeys(listing.filters.required, 0))
    variant = listing.settings.variants.variant(dialect, order, active, connection)
    keys = []
    for term, key in zip(variant.order.terms, variant.source.keys, strict=True):
        if not isinstance(key.element, Column) or key.element.table is not table:
            raise _refused(listing, f"is ordered by {term.name!r}, which is not a plain column")
        keys.append((key.element, term))
    name = re.sub(r"\W+", "_", f"{table.name}_{listing.name}_{abs(hash_of(chosen)):x}")[:40]
    tables = AnchorTables(
        name,
        table,
        tuple(keys),
        tuple(column for column, _ in parts),
        fixed,
    )
    return AnchorSet(
        tables=tables,
        source=listing,
        order=str(variant.order),
        parts=tuple(parameter for _, parameter in parts),
        anchors=_over(tables, "anchors"),
        log=_over(tables, "log"),
        k=k,
        fan=fan,
    )


def hash_of(text_: str) -> int:
    """Return a number that stands for an order in names, the same in every process."""
    found = 0
    for character in text_:
        found = (found * 131 + ord(character)) % 0xFFFFFF
    return found


@contextmanager
def snapshot(engine: Engine) -> Iterator[Connection]:
    """Lend a connection whose statements all see the rows as they are at the first of them."""
    with engine.connect() as connection:
        if engine.dialect.name == "sqlite":
            connection.exec_driver_sql("BEGIN")
        else:
            connection = connection.execution_options(isolation_level="REPEATABLE READ")
        yield connection
        connection.rollback()


def _conditions(listing: Listing) -> tuple[list[tuple[Column[Any], str]], Any]:
    """Return the columns that parameters fix, and the condition that holds for all readers."""
    parts, fixed = [], []
    for part in conjuncts(getattr(listing.select, "whereclause", None)):
        named = bound_parameters(part)
        if not named:
            fixed.append(part)
            continue
        left, right = getattr(part, "left", None), getattr(part, "right", None)
        if isinstance(right, Column):
            left, right = right, left
        equal = getattr(part, "operator", None) is operators.eq
        if not (equal and isinstance(left, Column) and isinstance(right, BindParameter)):
            raise _refused(listing, "has a condition with a parameter that is not an equality")
        parts.append((left, right.key))
    condition = None
    for part in fixed:
        condition = part if condition is None else condition & part
    return parts, condition


def _refused(listing: Listing, why: str) -> ListingError:
    return ListingError(
        f"the listing {listing.name!r} cannot have counted anchors: it {why}",
        "Jump by offset there, or page a listing of one table by its columns",
        "anchors-listing",
    )


def _over(tables: AnchorTables, which: str) -> Listing:
    """Return the listing over the anchors of a level and part, or over the log of a part."""
    table = getattr(tables, which)
    own = [table.c.id, table.c.n] if which == "anchors" else [table.c.seq, table.c.d]
    keys = [table.c[f"k{i}"] for i in range(len(tables.keys))]
    chosen = select(*own, *keys)
    if which == "anchors":
        chosen = chosen.where(table.c.lvl == bindparam("lvl"))
    for i in range(len(tables.parts)):
        chosen = chosen.where(table.c[f"p{i}"] == bindparam(f"p{i}"))
    order: Order = tables.order
    return Listing(
        chosen,
        name=table.name,
        kind="export",
        orders=str(order),
        unique=[term.name for term in order.terms],
        expose=True,
    )


def _types(engine: Engine, tables: AnchorTables) -> dict[str, str]:
    """Return the declared type and collation of each column of an SQLite table."""
    name = tables.table.name
    with engine.connect() as connection:
        declared = {
            row.name: row.type
            for row in connection.execute(
                text("SELECT name, type FROM pragma_table_info(:name)"), {"name": name}
            )
        }
        collated = {
            row.name: row.coll
            for index in inspect(connection).get_indexes(name)
            for row in connection.execute(
                text("SELECT name, coll FROM pragma_index_xinfo(:name) WHERE name IS NOT NULL"),
                {"name": index["name"]},
            )
        }
    return {
        column.name: f"{declared[column.name]} COLLATE {collated.get(column.name, 'BINARY')}"
        for _, column in tables.columns
    }
