"""The anchors of one order of a listing: which columns they have, made and dropped."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import (
    Column,
    Connection,
    Date,
    DateTime,
    Engine,
    Time,
    bindparam,
    literal_column,
    select,
)
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BindParameter

from vrelko.core.kept import Kept
from vrelko.core.key_order import KeyOrder
from vrelko.core.order import Order, Term
from vrelko.engines.registry import database_errors, dialect_of, record_of
from vrelko.errors import ListingError
from vrelko.serving.settings import Settings
from vrelko.serving.variants.store import VariantStore
from vrelko.serving.variants.variant import Variant
from vrelko.sql.anchor_tables import AnchorTables
from vrelko.sql.conditions import bound_parameters
from vrelko.sql.filters import Filters
from vrelko.sql.sources import conjuncts

_LITERAL = {"literal_binds": True}

K, FAN = 1_000, 100
"""Rows of an anchor, and anchors of a level between two of the next one."""


@dataclass(frozen=True)
class AnchorSet:
    """The anchors of one order of a listing.

    `source` holds the listing's statements; `asked` is an order that it allows, None for its first,
    `order` what that is in full; `parts` are the parameters that divide it, in the order of the
    tables' columns; `anchors` and `log` hold the statements of the two tables.
    """

    tables: AnchorTables
    source: VariantStore
    asked: str | None
    order: str
    parts: tuple[str, ...]
    anchors: VariantStore
    log: VariantStore
    both: VariantStore
    k: int = K
    fan: int = FAN
    kept: Kept[tuple[Any, ...], Any] = field(default_factory=lambda: Kept(200), compare=False)
    remembered: Kept[tuple[Any, ...], Any] = field(default_factory=lambda: Kept(50), compare=False)
    """The anchors that readers remember, by part."""

    def variant(self, connection: Any) -> Variant:
        """The variant whose rows are counted, on a connection."""
        return self.source.variant(dialect_of(connection), self.asked, (), connection)

    def anchored(self, connection: Any) -> Variant:
        """The variant of the anchors of a level and part."""
        return self.anchors.variant(dialect_of(connection), None, (), connection)

    def logged(self, connection: Any) -> Variant:
        """The variant of the log of a part."""
        return self.log.variant(dialect_of(connection), None, (), connection)

    def merged(self, connection: Any) -> Variant:
        """The variant of a part's log and level 1 anchors as one order, anchors behind equals."""
        return self.both.variant(dialect_of(connection), None, (), connection)

    def key_order(self, connection: Any) -> KeyOrder:
        """The order of the anchors' keys for Python, as far as that sorts as the database does."""
        capabilities = self.variant(connection).source.capabilities
        columns = [column for column, _ in self.tables.keys]
        texts = [capabilities.moments_as_text and _is_moment(column) for column in columns]
        return KeyOrder(self.anchored(connection).order.terms, texts)

    def log_keys(self, connection: Any) -> list[Any]:
        """The expressions that read the log's keys."""
        return [key.read for key in self.logged(connection).source.keys]

    def part_params(self, params: Mapping[str, Any] | None) -> dict[str, Any]:
        """Return the part that a request's parameters mean, for anchors and log."""
        given = self.source.filters.check(params)
        return {f"p{i}": given[name] for i, name in enumerate(self.parts)}

    def types(self, engine: Engine) -> dict[str, str]:
        """Return declared types and collations, of engines that copy neither."""
        return record_of(engine.dialect).anchors.types(engine, self.tables)

    def statements(self, engine: Engine, *, static: bool = False) -> list[str]:
        """Return the statements that make them; without triggers when `static`."""
        parts, types = record_of(engine.dialect).anchors, self.types(engine)
        return parts.create_statements(self.tables, engine.dialect, types, static=static)

    def drop_statements(self, engine: Engine) -> list[str]:
        """Return the statements that leave nothing of them."""
        parts = record_of(engine.dialect).anchors
        return parts.drop_statements(self.tables, engine.dialect)

    def create(self, engine: Engine, *, static: bool = False) -> None:
        """Make tables and triggers; anchors are built afterwards. Raises DatabaseError.

        What an earlier attempt left is taken away first. The anchors' table, by which readers know
        that there are anchors, comes last. `static`: without triggers.
        """
        statements = [*self.drop_statements(engine), *self.statements(engine, static=static)]
        with database_errors("making of anchors"), engine.begin() as connection:
            for statement in statements:
                connection.exec_driver_sql(statement.replace("%", "%%"))

    def drop(self, engine: Engine) -> None:
        """Leave nothing of the anchors. Raises DatabaseError."""
        with database_errors("dropping of anchors"), engine.begin() as connection:
            for statement in self.drop_statements(engine):
                connection.exec_driver_sql(statement.replace("%", "%%"))


def anchor_set(
    settings: Settings, connection: Any, order: str | None = None, k: int = K, fan: int = FAN
) -> AnchorSet:
    """Return the anchors that an order of a listing has, or would have.

    The listing reads one table; its conditions are equalities with required parameters, which
    divide it into parts, or take no parameters at all. Raises ListingError for any other, and for
    orders by expressions.
    """
    dialect, store = dialect_of(connection, settings.select), settings.variants
    described, table = store.described, settings.paged_table
    plain = not (described.wrapped or described.merged) and len(described.sources.tables) == 1
    if table is None or not plain or settings.steady.settle is not None:
        raise _refused(settings, "reads more than the plain rows of one table")
    if getattr(settings.select, "_for_update_arg", None) is not None:
        raise _refused(settings, "locks the rows it reads")
    parts, fixed = _conditions(settings)
    variant = store.variant(dialect, order, (), connection)
    keys = []
    for term, key in zip(variant.order.terms, variant.source.keys, strict=True):
        if not isinstance(key.element, Column) or key.element.table is not table:
            raise _refused(settings, f"is ordered by {term.name!r}, which is not a plain column")
        keys.append((key.element, term))
    name = re.sub(r"\W+", "_", f"{table.name}_{settings.name}")[:30]
    told = "" if fixed is None else str(fixed.compile(dialect=dialect, compile_kwargs=_LITERAL))
    name = f"{name}_{_mark(table.fullname, settings.name, str(variant.order), str(parts), told)}"
    tables = AnchorTables(
        name,
        table,
        tuple(keys),
        tuple(column for column, _ in parts),
        fixed,
    )
    return AnchorSet(
        tables=tables,
        source=store,
        asked=order,
        order=str(variant.order),
        parts=tuple(parameter for _, parameter in parts),
        anchors=_over(tables, "anchors"),
        log=_over(tables, "log"),
        both=_over_both(tables),
        k=k,
        fan=fan,
    )


def _mark(*parts: str) -> str:
    """Return what stands for a listing's rows and order in names.

    Where its order, parts or condition have changed since a build, other anchors are looked for.
    """
    return hashlib.blake2b("\0".join(parts).encode(), digest_size=5).hexdigest()


@contextmanager
def snapshot(engine: Engine) -> Iterator[Connection]:
    """Lend a connection whose statements all see the rows as they are at the first of them."""
    with engine.connect() as connection:
        yield begin_snapshot(connection)
        connection.rollback()


def begin_snapshot(connection: Connection) -> Connection:
    """Return a fresh connection in a transaction that sees one snapshot."""
    begun = record_of(connection.dialect).anchors.begin_snapshot(connection)
    return begun.execution_options(vrelko_snapshot=True)


def in_snapshot(connection: Connection) -> bool:
    """Tell whether the statements of a connection's transaction all see the same rows."""
    if connection.get_execution_options().get("vrelko_snapshot"):
        return True
    return record_of(connection.dialect).anchors.sees_one(connection)


def _conditions(settings: Settings) -> tuple[list[tuple[Column[Any], str]], Any]:
    """Return the columns that parameters fix, and the condition that holds for all readers."""
    parts, fixed = [], []
    for part in conjuncts(getattr(settings.select, "whereclause", None)):
        named = bound_parameters(part)
        if not named:
            fixed.append(part)
            continue
        left, right = getattr(part, "left", None), getattr(part, "right", None)
        if isinstance(right, Column):
            left, right = right, left
        equal = getattr(part, "operator", None) is operators.eq
        if not (equal and isinstance(left, Column) and isinstance(right, BindParameter)):
            raise _refused(settings, "has a condition with a parameter that is not an equality")
        parts.append((left, right.key))
    condition = None
    for part in fixed:
        condition = part if condition is None else condition & part
    return parts, condition


def _is_moment(column: Column[Any]) -> bool:
    return isinstance(column.type, (Date, DateTime, Time))


def _refused(settings: Settings, why: str) -> ListingError:
    return ListingError(
        f"the listing {settings.name!r} cannot have counted anchors: it {why}",
        "Jump by offset there, or page a listing of one table by its columns",
        "anchors-listing",
    )


def _over(tables: AnchorTables, which: str) -> VariantStore:
    """Return the statements over the anchors of a level and part, or over the log of a part."""
    table = getattr(tables, which)
    own = [table.c.id, table.c.n] if which == "anchors" else [table.c.seq, table.c.d]
    keys = [table.c[f"k{i}"] for i in range(len(tables.keys))]
    chosen = select(*own, *keys)
    if which == "anchors":
        chosen = chosen.where(table.c.lvl == bindparam("lvl"))
    for i in range(len(tables.parts)):
        chosen = chosen.where(table.c[f"p{i}"] == bindparam(f"p{i}"))
    unique = [term.name for term in tables.order.terms]
    return VariantStore(chosen, str(tables.order), unique, Filters(chosen, {}))


def _over_both(tables: AnchorTables) -> VariantStore:
    """Return the statements over a part's log up to a number, and its anchors of level 1."""
    anchors, log = tables.anchors, tables.log
    keys, parts = range(len(tables.keys)), range(len(tables.parts))
    changes = select(
        log.c.seq.label("number"), log.c.d.label("d"), literal_column("0").label("of_anchor"),
        *(log.c[f"k{i}"] for i in keys),
    ).where(log.c.seq <= bindparam("last"))  # fmt: skip
    counted = select(
        anchors.c.id, literal_column("0"), literal_column("1"),
        *(anchors.c[f"k{i}"] for i in keys),
    ).where(anchors.c.lvl == 1)  # fmt: skip
    for i in parts:
        changes = changes.where(log.c[f"p{i}"] == bindparam(f"p{i}"))
        counted = counted.where(anchors.c[f"p{i}"] == bindparam(f"p{i}"))
    both = changes.union_all(counted).subquery("vrelko_both")
    order = Order((*tables.order.terms, Term("of_anchor"), Term("number")))
    chosen = select(both)
    return VariantStore(chosen, str(order), ["of_anchor", "number"], Filters(chosen, {}))
