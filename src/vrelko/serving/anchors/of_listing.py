"""Which anchors the orders of a listing have, or would have."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from functools import partial
from typing import Any

from sqlalchemy import (
    Column,
    ColumnClause,
    SelectBase,
    TextClause,
    bindparam,
    literal_column,
    select,
)
from sqlalchemy.sql import operators, visitors
from sqlalchemy.sql.elements import BindParameter
from sqlalchemy.sql.functions import FunctionElement

from vrelko.core.order import Order, Term
from vrelko.engines.registry import dialect_of
from vrelko.errors import ListingError
from vrelko.serving.anchors.anchor_set import FAN, AnchorSet, K
from vrelko.serving.settings import Settings
from vrelko.serving.variants.columns import ROW_ID
from vrelko.serving.variants.store import VariantStore
from vrelko.serving.variants.translation import translated
from vrelko.sql.anchor_tables import AnchorTables
from vrelko.sql.conditions import bound_parameters
from vrelko.sql.entities import adds_criteria, core_connection
from vrelko.sql.filters import Filters
from vrelko.sql.sources import conjuncts, own_column
from vrelko.sql.unions import is_constant

_LITERAL = {"literal_binds": True}
_Keys = tuple[tuple[Column[Any], Term], ...]


def anchor_set(
    settings: Settings, connection: Any, order: str | None = None, k: int = K, fan: int = FAN
) -> AnchorSet:
    """Return the anchors that an order of a listing has, or would have.

    The listing reads one table; its conditions are equalities with required parameters, which
    divide it into parts, or take no parameters at all. Raises ListingError for any other, and for
    orders by expressions.
    """
    dialect, store = dialect_of(connection, settings.select), settings.variants
    described, paged = store.described, settings.paged_table
    # Under the schema that the connection's statements name instead of the table's own.
    table = (
        None if paged is None else translated(core_connection(connection, settings.select), paged)
    )
    plain = not (described.wrapped or described.merged) and len(described.sources.tables) == 1
    if table is None or not plain or settings.steady.settle is not None:
        raise _refused(settings, "reads more than the plain rows of one table")
    # A worker that locked every row it counts would stop all writers.
    if getattr(settings.select, "_for_update_arg", None) is not None:
        raise _refused(settings, "locks the rows it reads")
    if adds_criteria(settings.select):
        raise _refused(settings, "has conditions of the ORM's own, which no trigger would know")
    # Conditions are read once more here, since triggers are made of what holds for all readers.
    parts, fixed = _conditions(settings)
    order_text, keys = _keys(settings, connection, order)
    logged = _logged(settings, connection, keys)
    told = "" if fixed is None else str(fixed.compile(dialect=dialect, compile_kwargs=_LITERAL))
    # Another table or listing has another owner; another condition or other columns need another
    # log, by which those of an earlier description of the listing are told from its own.
    # Readable in a list of tables, and short enough for the names that end in it.
    owner = re.sub(r"[^0-9A-Za-z]+", "_", f"{table.name}_{settings.name}")[:22]
    owner = f"{owner}_{_mark(3, table.fullname, settings.name)}"
    rows = _mark(4, str(parts), told, str([column.name for column in logged]))
    tables = AnchorTables(
        group=f"{owner}{rows}",
        mark=_mark(4, order_text),
        table=table,
        keys=keys,
        parts=tuple(column for column, _ in parts),
        logged=logged,
        condition=fixed,
    )
    return AnchorSet(
        tables=tables,
        owner=owner,
        source=store,
        asked=order,
        order=order_text,
        parts=tuple(parameter for _, parameter in parts),
        anchors=_over(tables, "anchors"),
        log=_over(tables, "log"),
        both=_over_both(tables),
        siblings=partial(_siblings, settings, fan=fan),
        k=k,
        fan=fan,
    )


def _siblings(settings: Settings, connection: Any, fan: int) -> dict[str, AnchorSet]:
    """Return the anchors of all orders of a listing, by their marks."""
    found = {}
    for order in _orders(settings):
        try:
            made = anchor_set(settings, connection, order, fan=fan)
        except ListingError:  # of an order that cannot have any
            continue
        found[made.tables.mark] = made
    return found


def _orders(settings: Settings) -> Sequence[str | None]:
    # Orders that a search brings along are those of its filter, which has no anchors.
    described = settings.variants.described
    own = described.given[: len(described.given) - described.search_orders]
    return [None, *map(str, own[1:])]


def _keys(settings: Settings, connection: Any, order: str | None) -> tuple[str, _Keys]:
    """Return an order in full, and its columns with their terms. Raises ListingError."""
    dialect = dialect_of(connection, settings.select)
    variant = settings.variants.variant(dialect, order, (), connection)
    keys = []
    for term, key in zip(variant.order.terms, variant.source.keys, strict=True):
        column = own_column(key.element, settings.paged_table)
        if column is None and term.name == ROW_ID:
            raise _refused(settings, "has a key that may be NULL: declare its columns NOT NULL")
        if column is None:
            raise _refused(settings, f"is ordered by {term.name!r}, which is not a plain column")
        keys.append((column, term))
    return str(variant.order), tuple(keys)


def _logged(settings: Settings, connection: Any, keys: _Keys) -> tuple[Column[Any], ...]:
    """Return the key columns of all orders, which one log tells of, by their names."""
    found = {column.name: column for column, _ in keys}
    for order in _orders(settings):
        try:
            found |= {column.name: column for column, _ in _keys(settings, connection, order)[1]}
        except ListingError:
            continue
    return tuple(found[name] for name in sorted(found))


def _mark(size: int, *parts: str) -> str:
    """Return what stands for a listing's rows or order in names, of twice so many characters.

    Where its order, parts or condition have changed since a build, other anchors are looked for.
    """
    return hashlib.blake2b("\0".join(parts).encode(), digest_size=size).hexdigest()


def _conditions(settings: Settings) -> tuple[list[tuple[Column[Any], str]], Any]:
    """Return the columns that parameters fix, and the condition that holds for all readers."""
    parts, fixed = [], []
    for part in conjuncts(getattr(settings.select, "whereclause", None)):
        named = bound_parameters(part)
        # Without a parameter it is the same for all readers, and decides which rows are logged.
        if not named:
            _check_steady(settings, part)
            fixed.append(part)
            continue
        left, right = getattr(part, "left", None), getattr(part, "right", None)
        # Somebody wrote :station = station_id.
        if isinstance(left, BindParameter):
            left, right = right, left
        column = own_column(left, settings.paged_table) if isinstance(left, Column) else None
        # Only an equality divides the rows into parts that have an order each.
        equal = getattr(part, "operator", None) is operators.eq
        if not (equal and column is not None and isinstance(right, BindParameter)):
            raise _refused(settings, "has a condition with a parameter that is not an equality")
        parts.append((column, right.key))
    condition = None
    for part in fixed:
        condition = part if condition is None else condition & part
    return parts, condition


_STEADY = frozenset(
    {"abs", "ceil", "ceiling", "char_length", "coalesce", "concat", "floor", "greatest", "ifnull",
     "least", "left", "length", "lower", "ltrim", "mod", "nullif", "replace", "right", "round",
     "rtrim", "substr", "substring", "trim", "upper"}
)  # fmt: skip
"""Functions that give the same for the same row whenever they are called."""


def _check_steady(settings: Settings, part: Any) -> None:
    """Raise ListingError for a condition that may change its mind though its row does not change.

    Triggers look at it when a row is written, and at no other time.
    """
    for one in visitors.iterate(part):
        if isinstance(one, SelectBase):
            raise _refused(settings, "reads another table in a condition, whose changes go unseen")
        if isinstance(one, FunctionElement) and str(one.name).lower() not in _STEADY:
            told = f"calls {one.name}() in a condition, which may give another result later"
            raise _refused(settings, told)
        named = isinstance(one, ColumnClause) and not is_constant(one)
        unknown = named and (
            not isinstance(one, Column) or own_column(one, settings.paged_table) is None
        )
        if unknown or isinstance(one, TextClause):
            told = "has a condition written as text, of which no trigger can be made"
            raise _refused(settings, told)


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
    return VariantStore(chosen, str(tables.order), unique, Filters(chosen, {}), own=True)


def _over_both(tables: AnchorTables) -> VariantStore:
    """Return the statements over a part's log up to a number, and its anchors of level 1."""
    anchors, log = tables.anchors, tables.log
    keys, parts = range(len(tables.keys)), range(len(tables.parts))
    # One order of both: a fold walks them once, and meets each change at its anchor.
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
    return VariantStore(chosen, str(order), ["of_anchor", "number"], Filters(chosen, {}), own=True)
