"""Index advice: which indexes the variants in use lack, each named once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from vrelko.core.access import advise_index, choose_path, fixed_columns
from vrelko.core.cost.groups import find_groups
from vrelko.core.cost.model import CostModel, make_model
from vrelko.core.cost.rates import Clock
from vrelko.core.cost.work import Work
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts, declared_bytes
from vrelko.core.identifiers import quote, quote_table
from vrelko.core.index import IndexFacts
from vrelko.core.insert_price import LEAF_FILL, insert_us
from vrelko.core.order import Order
from vrelko.core.outline import Outline

SORTED_ROWS = 1_000
"""Fewer rows than this are sorted for each page well within a millisecond; no index is advised."""

_GROUPS = 2.0  # pages; groups of fewer rows are sorted for each page at little cost
_MOST_INCLUDED = 64.0  # bytes of columns that an index is widened by
_PAYS = 1.5


@dataclass(frozen=True, slots=True, kw_only=True)
class Advice:
    """An index worth making: its statement, what it serves, and a page's work with it.

    `order` is the first of the orders that `serves` names with their listings. `bytes` it would
    take, `insert_us` it would add to an insert; `judged` says by what it was weighed.
    """

    index: IndexFacts
    table: str
    order: str
    sql: str
    before: Work
    after: Work
    before_ms: float
    after_ms: float
    bytes: float
    insert_us: float
    serves: tuple[str, ...] = ()
    judged: str = "model"


def advise_indexes(
    outline: Outline,
    orders: Sequence[Order],
    table: TableFacts,
    server: ServerFacts,
    clock: Clock,
    jumps: bool = False,
    today: Mapping[str, CostModel] | None = None,
) -> Iterator[Advice]:
    """Yield an index for each order of a listing that none serves; none that another covers.

    `jumps`: readers ask for pages by number, so that an index which holds all columns may pay.
    `today`: the cost models of orders as they are, where more is known than facts tell.
    """
    known = table
    for order in orders:
        path = choose_path(outline, order, known, server.engine, served=True)
        # In order, and nothing left to filter: there is nothing that an index could save.
        if path.kind == "ordered" and not set(fixed_columns(outline)) - set(path.fixed):
            continue
        if table.rows * path.share < SORTED_ROWS:
            continue
        size = outline.sizes.default
        # Groups of a few pages are sorted in no time.
        if path.kind == "grouped" and find_groups(order, path, table).size(0.0) < _GROUPS * size:
            continue
        # An expression, or a view: there is no column here to make an index on.
        if any(not table.has_column(name) for name in order.names) or table.is_view:
            continue
        if not _can_index(outline, order, table, server):
            continue
        index = _for_engine(advise_index(outline, order, table, server.engine), outline, server)
        if jumps and TRAITS[server.engine].included_columns:
            index = _with_included(index, outline, order, table, server, clock)
        # The next order may be served by this one already.
        known = replace(known, indexes=(*known.indexes, replace(index, partial=False)))
        # Compared a third into the order: at its start every path looks fast.
        model = (today or {}).get(str(order)) or make_model(outline, order, table, server)
        before = model.keyset(size + 1, at=model.matching / 3)
        after = make_model(outline, order, known, server).keyset(size + 1, at=model.matching / 3)
        bytes_ = table.rows * (index.entry_bytes or 20.0) / LEAF_FILL
        yield Advice(
            index=index,
            table=table.name,
            order=str(order),
            sql=create_text(index, table, server.engine),
            before=before,
            after=after,
            before_ms=clock.ms(before),
            after_ms=clock.ms(after),
            bytes=bytes_,
            insert_us=insert_us(index, table, server),
            serves=(f"{outline.name}: {order}",),
        )


def _can_index(outline: Outline, order: Order, table: TableFacts, server: ServerFacts) -> bool:
    """Tell whether an index of an order's columns would be read in that order.

    MariaDB: not of TEXT, BLOB and JSON, of which it indexes a beginning alone; not of ENUM and SET,
    which it sorts by number and compares by text (see docs/values.md); and no more than 3,072
    bytes.
    """
    most = TRAITS[server.engine].most_key_bytes
    if most is None:
        return True
    names = {*fixed_columns(outline), *order.names}
    kinds = {name: table.column(name).type.upper() for name in names if table.has_column(name)}
    fixed = fixed_columns(outline)
    if any(part in kind for kind in kinds.values() for part in ("TEXT", "BLOB", "JSON")):
        return False
    sorted_by = [kind for name, kind in kinds.items() if name not in fixed]
    if any(kind.startswith(("ENUM", "SET")) for kind in sorted_by):
        return False
    return sum(declared_bytes(kind) for kind in kinds.values()) <= most


def create_text(index: IndexFacts, table: TableFacts, engine: str) -> str:
    """Return the statement that makes an index."""
    parts = []
    for column in index.columns:
        text = quote(column.name or "", engine) + (" DESC" if column.descending else "")
        traits = TRAITS[engine]
        natural = column.descending != traits.nulls_low
        if traits.index_places_nulls and column.nulls_first not in (None, natural):
            text += " NULLS FIRST" if column.nulls_first else " NULLS LAST"
        parts.append(text)
    others = ", ".join(quote(name, engine) for name in index.included)
    included = f" INCLUDE ({others})" if index.included else ""
    where = f" WHERE {index.where}" if index.where else ""
    source = quote_table(table.name, table.schema, engine)
    name = quote(index.name, engine)
    return f"CREATE INDEX {name} ON {source} ({', '.join(parts)}){included}{where}"


def merge_advice(advice: Iterable[Advice]) -> tuple[Advice, ...]:
    """Return the advice of several listings with each index once; longer ones take in shorter."""
    kept: list[Advice] = []
    # Longest first: an index serves all that begins as it does.
    for one in sorted(advice, key=lambda item: -len(item.index.columns)):
        for i, other in enumerate(kept):
            ours, theirs = one.index.columns, other.index.columns
            # An index of some rows alone takes in no other that keeps different ones.
            if (
                one.table == other.table
                and theirs[: len(ours)] == ours
                and (one.index.where == other.index.where)
            ):
                kept[i] = replace(other, serves=tuple(dict.fromkeys((*other.serves, *one.serves))))
                break
        else:
            kept.append(one)
    return tuple(kept)


def _with_included(
    index: IndexFacts,
    outline: Outline,
    order: Order,
    table: TableFacts,
    server: ServerFacts,
    clock: Clock,
) -> IndexFacts:
    """Return the index with the other columns included, where pages by number gain by half."""
    needed = {name for owner, name in outline.columns if owner == table.name}
    needed |= {condition.column for condition in outline.conditions}
    missing = [column for column in table.columns if column.name in needed - index.held]
    width = sum(column.width or 8.0 for column in missing)
    # Wide columns would make a second table of the index.
    if not missing or width > _MOST_INCLUDED or len(outline.tables) > 1:
        return index
    size = (index.entry_bytes or 20.0) + width
    whole = replace(index, included=tuple(c.name for c in missing), entry_bytes=size)

    # A page by number steps over rows without showing them: in the index alone, if that holds all.
    def jump(one: IndexFacts) -> float:
        richer = replace(table, indexes=(*table.indexes, replace(one, partial=False)))
        model = make_model(outline, order, richer, server)
        return clock.ms(model.offset(model.matching / 2, outline.sizes.default))

    return whole if jump(whole) < jump(index) / _PAYS else index


def _for_engine(index: IndexFacts, outline: Outline, server: ServerFacts) -> IndexFacts:
    """Return the index as a partial one where a fixed "is NULL" keeps rows for good.

    So are rows that were marked as deleted left out, where the engine knows partial indexes.
    """
    kept = [c.column for c in outline.conditions if c.kind == "null" and c.table == outline.table]
    if not kept or not TRAITS[server.engine].partial_indexes:
        return index
    where = " AND ".join(f"{quote(column, server.engine)} IS NULL" for column in kept)
    return replace(index, where=where, partial=True)
