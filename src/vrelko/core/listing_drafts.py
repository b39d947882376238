"""Listings that a table seems to be made for, from its keys, indexes and statistics."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from vrelko.core.facts import ColumnFacts, TableFacts
from vrelko.core.number_format import render_many

SMALL_ROWS = 500.0
"""Tables of no more rows are proposed as choices of a picker."""

_FEW_VALUES = 50.0  # distinct values of a column that readers may filter by
_TIMES = ("DATE", "TIME")
_DATES = ("DATE", "TIMESTAMP")  # of which periods are told
_LABELS = ("name", "title", "label", "description")
_TEXTS = ("CHAR", "TEXT", "CLOB", "STRING")


@dataclass(frozen=True, slots=True, kw_only=True)
class ListingDraft:
    """A listing to start from: what it is for, and what stands in a pages file for it.

    `params` are typical values by parameter, as statistics have them. `periods`: a column of dates.
    """

    name: str
    why: str
    kind: str
    table: str
    columns: tuple[str, ...] = ()
    where: Mapping[str, str] = field(default_factory=dict)
    filters: Mapping[str, str] = field(default_factory=dict)
    search: str | None = None
    orders: tuple[str, ...] = ()
    params: Mapping[str, str] = field(default_factory=dict)
    periods: str | None = None


def draft_listings(table: TableFacts, references: frozenset[str]) -> Iterator[ListingDraft]:
    """Yield the listings that a table suggests; `references` are its foreign keys' columns.

    None for a table whose rows nothing identifies.
    """
    key = _key_of(table)
    if not key:
        return
    if 0 < table.rows <= SMALL_ROWS:  # an empty table may grow into anything
        yield _choices(table, key)
        return
    yield _grid(table, key, references)
    yield from _parts(table, references)
    newest = next((name for name in _leads(table) if _is(table, name, _TIMES)), None)
    if newest is not None:
        yield ListingDraft(
            name=f"{table.bare_name}_feed",
            kind="feed",
            table=table.name,
            why=f"the newest first: an index begins with {newest}",
            orders=(f"-{newest}",),
            periods=newest if _is(table, newest, _DATES) else None,
        )
    yield ListingDraft(
        name=f"{table.bare_name}_export",
        kind="export",
        table=table.name,
        why=f"all {render_many(table.rows, 'row')}, by their key",
        orders=(",".join(key),),
    )


def _choices(table: TableFacts, key: tuple[str, ...]) -> ListingDraft:
    # A picker shows something that people can read.
    texts = [c.name for c in table.columns if c.name not in key and _kind(c, _TEXTS)]
    label = next((one for one in texts if one.lower() in _LABELS), texts[0] if texts else None)
    shown = (*key, label) if label else ()
    return ListingDraft(
        name=table.bare_name,
        kind="choices",
        table=table.name,
        columns=shown,
        why=f"{render_many(table.rows, 'row')} fit a picker at once",
        orders=(label or ",".join(key),),
    )


def _grid(table: TableFacts, key: tuple[str, ...], references: frozenset[str]) -> ListingDraft:
    # A foreign key groups rows: people filter by it, and seldom sort by it.
    leads = [name for name in _leads(table) if name not in references]
    times = [f"-{name}" for name in leads if _is(table, name, _TIMES)]
    others = [name for name in leads if not _is(table, name, _TIMES) and not _is_few(table, name)]
    # Newest first is what most readers look for.
    orders = [*times, *others, ",".join(f"-{name}" for name in key)]
    filters = [
        column.name
        for column in table.columns
        if column.name not in key and (column.name in references or _is_few(table, column.name))
    ]
    search = next((name for name in leads if _is(table, name, _TEXTS)), None)
    return ListingDraft(
        name=table.bare_name,
        kind="grid",
        table=table.name,
        why=f"{render_many(table.rows, 'row')} need paging" if table.rows else "empty so far",
        orders=tuple(dict.fromkeys(orders)),
        filters={name: f":{name}" for name in filters},
        search=search,
    )


def _parts(table: TableFacts, references: frozenset[str]) -> Iterator[ListingDraft]:
    """Yield a grid for each index that holds a part of the rows in the order of time."""
    seen = set()
    for index in table.indexes:
        names = [column.name for column in index.columns]
        # A partial index serves some rows, an expression no plain column.
        if index.partial or len(names) < 2 or None in names[:2] or names[0] in seen:
            continue
        first, second = str(names[0]), str(names[1])
        if _is(table, first, _TIMES) or not _is(table, second, _TIMES):
            continue
        # The rows of one owner by time: what a page about a station or a customer shows.
        if first in references or _is_few(table, first):
            seen.add(first)
            yield ListingDraft(
                name=f"{table.bare_name}_by_{first}",
                kind="grid",
                table=table.name,
                why=f"the index {index.name} holds the rows of each {first} by {second}",
                where={first: f":{first}"},
                orders=(f"-{second}",),
                params=_usual(table.column(first)),
            )


def _usual(column: ColumnFacts) -> dict[str, str]:
    return {column.name: column.common[0][0]} if column.common else {}


def _key_of(table: TableFacts) -> tuple[str, ...]:
    if table.primary_key:
        return table.primary_key
    # A unique constraint lets any number of rows hold NULL, so it identifies rows only without any.
    filled = {column.name for column in table.columns if not column.nullable}
    for index in table.indexes:
        names = [column.name for column in index.columns]
        if index.unique and not index.partial and all(name in filled for name in names):
            return tuple(str(name) for name in names)
    return ()


def _leads(table: TableFacts) -> list[str]:
    """Return the columns that a whole index begins with, keys of one column left out."""
    whole = [index for index in table.indexes if index.columns and not index.partial]
    found = [index.columns[0].name for index in whole]
    names = [name for name in found if name is not None and table.has_column(name)]
    return [name for name in dict.fromkeys(names) if (name,) != table.primary_key]


def _is(table: TableFacts, name: str, kinds: tuple[str, ...]) -> bool:
    return table.has_column(name) and _kind(table.column(name), kinds)


def _kind(column: ColumnFacts, kinds: tuple[str, ...]) -> bool:
    return any(kind in column.type.upper() for kind in kinds)


def _is_few(table: TableFacts, name: str) -> bool:
    distinct = table.column(name).distinct if table.has_column(name) else None
    # Few, and each with rows enough that choosing it means something.
    return distinct is not None and distinct <= min(_FEW_VALUES, table.rows / 20)
