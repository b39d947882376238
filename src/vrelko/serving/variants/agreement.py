"""Order and keys of a variant as the database has their columns, where it can be asked."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from sqlalchemy import Column, ColumnElement, Select
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.order import Order, make_total, resolve_nulls
from vrelko.core.stored import Stored
from vrelko.engines.registry import capabilities_of
from vrelko.serving.variants.columns import ROW_ID, Columns, row_id_of
from vrelko.sql.engines import is_doubtful, key_column
from vrelko.sql.keys import KeyColumn
from vrelko.sql.outlines import Described
from vrelko.sql.sources import base_table, is_row_id, origins, plain, same
from vrelko.sql.unions import NO_MEMBERS, Members, is_constant


@dataclass(frozen=True)
class Agreed:
    """An order and its keys; `unique` terms identify a row, `columns` say what each name means.

    `members`: those of a UNION ALL that pages may be pushed into. `doubtful`: a type is not one
    that was tried, so the first page asks whether its rows are found by their keys. `kinds`: what
    the database stores for each term, None where it was not asked.
    """

    order: Order
    keys: tuple[KeyColumn, ...]
    unique: tuple[str, ...]
    columns: dict[str, ColumnElement[Any]]
    members: Members
    doubtful: bool = False
    kinds: tuple[Stored | None, ...] = ()


def agree(
    found: Described,
    chosen: Order,
    filtered: Any,
    dialect: Dialect,
    members: Sequence[Select[Any]],
    lender: Any = None,
    asked: Columns | None = None,
    own: bool = False,
) -> Agreed:
    """Return an order with its keys; `asked` knows the database's columns, None without one.

    Columns that hold NULL there count as nullable, whatever the model says, unless the tables are
    our `own`; a key of SQLite that may hold several NULLs is made whole by the row id. Raises
    OrderError.
    """
    columns = dict(found.columns)

    # Our own tables hold NULLs just where their columns say so.
    told = None if own else asked
    # A model may say NOT NULL where the table does not: rows would be passed over in silence.
    nullable = set(found.nullable)
    if told is not None:
        named = ((name, origins(columns[name])) for name in chosen.names)
        nullable |= {name for name, shown in named if told.may_be_null(lender, shown)}
    unique: tuple[str, ...] = found.unique
    capabilities = capabilities_of(dialect)
    # Its row id then tells apart the rows whose keys hold NULLs.
    if capabilities.null_keys and not found.merged:
        row_ids, instead = _row_ids(found, nullable, partial(_has_row_id, lender, told))
        columns |= row_ids
        unique = (*(name for name in unique if name not in instead), *row_ids)
    order = resolve_nulls(make_total(chosen, unique), nullable, capabilities.nulls_low)
    # Only now: NULLs and keys decide which terms the order ends in.
    elements = [columns[name] for name in order.names]
    kinds: list[Stored | None] = [None] * len(elements)
    if asked is not None:
        kinds = asked.find_exact(lender, elements, filtered)
    keys = tuple(
        key_column(name, element, dialect, kind)
        for name, element, kind in zip(order.names, elements, kinds, strict=True)
    )

    def over(position: int, element: ColumnElement[Any]) -> KeyColumn:
        return key_column(order.names[position], element, dialect, kinds[position])

    pushed = replace(_members(members, elements, kinds, lender, asked), over=over)
    doubtful = asked is not None and any(is_doubtful(kind, dialect) for kind in kinds)
    return Agreed(
        order=order,
        keys=keys,
        unique=unique,
        columns=columns,
        members=pushed,
        doubtful=doubtful,
        kinds=tuple(kinds),
    )


def _has_row_id(lender: Any, asked: Columns | None, column: Column[Any]) -> bool:
    """Tell whether a row id tells apart the rows whose key is NULL in a column, if any may be."""
    stored = None if asked is None else asked.of(lender, origins(column)[0])
    # Without a database to ask, a model's word is taken for it.
    if stored is None:
        return not is_row_id(column)
    return stored.nullable and not stored.of_view


def _row_ids(
    found: Described, nullable: set[str], has_row_id: Callable[[Column[Any]], bool]
) -> tuple[dict[str, ColumnElement[Any]], set[str]]:
    """Return the row ids of tables whose key may hold NULLs, and the key's names they stand for.

    Those of an outer join's optional side are added to `nullable`. `has_row_id` tells whether a
    column of a key may hold NULLs, in a table with row ids.
    """
    maybe = set(nullable)
    row_ids: dict[str, ColumnElement[Any]] = {}
    instead: set[str] = set()
    for source in found.sources.tables:
        names = {
            name
            for name in found.unique
            if same(getattr(plain(found.columns[name]), "table", None), source)
        }
        table = base_table(source)
        primary = set() if table is None else {one.name for one in table.primary_key.columns}
        doubtful = [found.columns[name] for name in names if name in maybe]
        # Only a primary key is mended so: a UNIQUE constraint with NULLs never identified a row.
        keyed = doubtful and all(
            isinstance(one, Column) and one.name in primary and has_row_id(one) for one in doubtful
        )
        row_id = row_id_of(source) if keyed else None
        if row_id is not None:
            # One a table of a join.
            name = ROW_ID if not row_ids else f"{ROW_ID}_{len(row_ids) + 1}"
            row_ids[name] = row_id
            instead |= names
            if any(same(source, one) for one in found.sources.optional):
                nullable.add(name)
    return row_ids, instead


def _members(
    members: Sequence[Select[Any]],
    elements: Sequence[ColumnElement[Any]],
    kinds: Sequence[Stored | None],
    lender: Any,
    asked: Columns | None,
) -> Members:
    """Return the members that pages may be pushed into: all sort by columns of one type.

    And that is the type of the merged rows: an ENUM is none there.
    """
    places = []
    for element, kind in zip(elements if members else (), kinds, strict=False):
        of = plain(element)
        place = next((i for i, one in enumerate(of.table.c) if same(one, of)), None)
        shown = [] if place is None else [plain(_shown(one)[place]) for one in members]
        if place is None or not all(isinstance(one, Column) or is_constant(one) for one in shown):
            return NO_MEMBERS
        found = [_kind(one, lender, asked) for one in shown]
        # They sort by number in their table and as texts once merged.
        enums = any(one.type.__visit_name__.lower() in ("enum", "set") for one in shown)
        if enums or any(one != found[0] for one in found):
            return NO_MEMBERS
        if kind is not None and isinstance(found[0], Stored) and not _merges(found[0], kind):
            return NO_MEMBERS
        places.append(place)
    return Members(tuple(members), tuple(places)) if places else NO_MEMBERS


def _merges(member: Stored, merged: Stored) -> bool:
    """Tell whether merged rows sort by a column as a member does: by one type.

    MariaDB tells those of merged rows more coarsely, by the numbers of the wire protocol.
    """
    # What a UNION gives is wider than its members' types, and sorts as they do.
    coarse = {"bigint": "int", "varchar": "char text"}.get(merged.kind, "")
    return member.kind == merged.kind or any(part in member.kind for part in coarse.split())


def _shown(select: Select[Any]) -> list[Any]:
    return list(select.selected_columns)


def _kind(column: Column[Any], lender: Any, asked: Columns | None) -> Any:
    """Return what two columns must share to be sorted and compared alike."""
    if is_constant(column):
        return "a whole number"
    found = origins(column)
    stored = None if asked is None or len(found) != 1 else asked.of(lender, found[0])
    if stored is None:
        return repr(column.type)
    if getattr(column.type, "collation", None) and not stored.collation:
        stored = replace(stored, collation=str(column.type.collation))  # type: ignore[attr-defined]
    # How long, and whether NULL, does not change how values compare.
    return replace(stored, nullable=True, length=None)
