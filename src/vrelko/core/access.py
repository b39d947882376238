"""Access paths: which index serves a listing's conditions and order, and which index would."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from vrelko.core.access_path import CLUSTER, AccessPath, ExplainedPath, PathKind, Scan, Sorts
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import TableFacts
from vrelko.core.identifiers import plain_name
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.index_order import entry_bytes, index_tail, presorted, serves_order
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.selectivity import condition_share, shares, value_shares
from vrelko.core.set_filters import reads_branches


def choose_path(
    outline: Outline, order: Order | None, table: TableFacts, engine: str, served: bool = False
) -> AccessPath:
    """Return the access path that an engine is expected to take for one order of a listing.

    `order` None: for counting. `served`: by ranges of their own for NULLs and branches for the
    values of a set, as pages behind a key are read.
    """
    fixed = fixed_columns(outline)
    # A partial index serves only rows that meet its condition, and facts do not prove that a
    # listing's rows do.
    paths = [
        _path(outline, order, table, index, engine, served)
        for index in table.indexes
        if not index.partial and _useful(outline, index, order, fixed, table, engine, served)
    ]
    paths += [_table_path(outline, order, table, engine)]
    # Counting is told by entries alone, and any index has fewer bytes of them than the table.
    if order is None:
        return min(
            paths,
            # Counting wants few entries first, then none of the table, then a small index.
            key=lambda path: (len(_lost(path, fixed)), not path.covering, _leaves(path, table)),
        )
    # An ordered path that fixes every equality stops after a page. All else reads more, the fewer
    # columns it fixes, and may sort on top.
    return min(
        paths,
        key=lambda path: (
            path.kind != "ordered" or bool(_lost(path, fixed)),
            len(_lost(path, fixed)),
            _KIND_RANK[path.kind],
            not path.covering,
            -len(path.fixed),
        ),
    )


_KIND_RANK: dict[PathKind, int] = {"ordered": 0, "grouped": 1, "sorted": 2}
_SMALL_GROUP = 0.05  # of the rows; larger groups are sorted as a whole


def choose_keys(
    outline: Outline, order: Order, table: TableFacts, engine: str, near: AccessPath | None = None
) -> AccessPath:
    """Return the access path to the keys of a page alone, as a deferred join reads them first.

    `near` is the one to whole rows, where a server told it: its index is taken for the keys too.
    """
    # Without the other columns an index may hold all that is asked for.
    narrow = _narrowed(outline, order, table)
    # Nobody asked the server, so facts decide.
    if near is None or near.index is None:
        return choose_path(narrow, order, table, engine)
    path = _path(narrow, order, table, near.index, engine, False)
    return replace(path, kind=near.kind, presorted=near.presorted)


def _narrowed(outline: Outline, order: Order, table: TableFacts) -> Outline:
    keys = tuple((table.name, name) for name in (*table.primary_key, *order.names))
    return replace(outline, tables=outline.tables[:1], columns=keys)


def follow_path(
    outline: Outline, order: Order | None, table: TableFacts, explained: ExplainedPath, engine: str
) -> AccessPath:
    """Return the access path that a server said it takes, with what facts tell of it."""
    index = next((one for one in table.indexes if one.name == explained.index), None)
    # It reads the table, or an index that was made after the survey: the table's figures stand in.
    if index is None:
        path = _table_path(outline, order, table, engine)
    else:
        path = _path(outline, order, table, index, engine, False)
    path = _with(path, _KINDS[explained.sorts], explained)
    # The server says how many terms come sorted; which ones they are is told by its index.
    if path.kind == "grouped" and order is not None and path.index is not None:
        path = replace(
            path, presorted=presorted(path.index, order, path.fixed, explained.presorted)
        )
        if not path.presorted:
            path = replace(path, kind="sorted")
    # Where nothing is fixed the server's own estimate is the only word on how much is read.
    if explained.rows is not None and not path.fixed:
        share = min(explained.rows / max(table.rows, 1.0), 1.0)
        path = replace(path, share=share, passing=min(path.passing * path.share / share, 1.0))
    return path


_KINDS: dict[Sorts, PathKind] = {"none": "ordered", "groups": "grouped", "all": "sorted"}


def fixed_columns(outline: Outline) -> tuple[str, ...]:
    """Return the columns of the paged table that equality conditions fix."""
    return tuple(
        condition.column
        for condition in outline.conditions
        if condition.kind == "equal" and condition.table == outline.table
    )


def advise_index(outline: Outline, order: Order, table: TableFacts, engine: str) -> IndexFacts:
    """Return the index that would serve one order: equality columns, then the order's terms.

    Terms run in the order's own directions or all reversed, whichever begins ascending, with the
    NULLs where the order has them; what the engine adds to every index is left out at the end.
    """
    fixed = fixed_columns(outline)
    terms = [term for term in order.terms if term.name not in fixed]
    # An index is read from either end, so the order and its reverse are the same index.
    if terms and terms[0].descending:
        terms = [term.reversed() for term in terms]
    tail = index_tail(table, engine)
    # What the engine appends to every index need not be named, and makes it no wider.
    while terms and terms[-1].name in tail and not terms[-1].descending:
        terms = terms[:-1]
    columns = [IndexColumn(name) for name in fixed]
    for term in terms:
        placed = term.nullable and TRAITS[engine].index_places_nulls
        place = (term.nulls == "first") if placed else None
        columns.append(IndexColumn(term.name, term.descending, place))
    name = plain_name(table.bare_name, "by", *(column.name or "" for column in columns))
    return IndexFacts(name, tuple(columns), entry_bytes=entry_bytes(columns, table))


def _useful(
    outline: Outline,
    index: IndexFacts,
    order: Order | None,
    fixed: Sequence[str],
    table: TableFacts,
    engine: str,
    served: bool,
) -> bool:
    leads = bool(index.columns) and index.columns[0].name in _pinned(outline, True)
    # To count, even an index that narrows nothing helps: it is smaller than the table.
    if order is None:
        return True
    if _first_terms(index, order, fixed, table, engine, served):
        return True
    pinned = _pinned(outline, served and _by_branches(outline, table, engine))
    return leads or serves_order(index, order, pinned, table, engine, served)


def _by_branches(outline: Outline, table: TableFacts, engine: str) -> bool:
    """Tell whether pages over a set are served by one branch a value."""
    sets = [c for c in outline.conditions if c.kind == "in" and c.table == outline.table]
    # Without a set there is one branch, which any path is.
    if not sets:
        return True
    want = outline.sizes.default + 1
    share = condition_share(outline, sets[0], table)
    count = _values(outline, [sets[0].column])
    return reads_branches(engine, count, want, table.rows, share)


def _pinned(outline: Outline, served: bool) -> tuple[str, ...]:
    """Return the columns that each branch of a statement fixes."""
    fixed = fixed_columns(outline)
    if not served:
        return fixed
    sets = [c.column for c in outline.conditions if c.kind == "in" and c.table == outline.table]
    return (*fixed, *sets[:1])


def _path(
    outline: Outline,
    order: Order | None,
    table: TableFacts,
    index: IndexFacts,
    engine: str,
    served: bool,
) -> AccessPath:
    fixed = fixed_columns(outline)
    pinned = _pinned(outline, True)
    used: list[str] = []
    # Equalities narrow an index from its first column on, as far as there is no gap.
    for column in index.columns:
        if column.name not in pinned:
            break
        used.append(column.name or "")
    sets = [name for name in used if name not in fixed]
    branched = served and _by_branches(outline, table, engine)
    tried = pinned if branched else fixed
    ordered = order is not None and serves_order(index, order, tried, table, engine, served)
    # Read as one range it goes through the order, and the set is tested on the way.
    if ordered and not branched and sets:
        used, sets = [name for name in used if name in fixed], []
    alike: tuple[str, ...] = ()
    if order is not None and not ordered:
        alike = _first_terms(index, order, used, table, engine, served)
    # A range on the column behind the fixed ones bounds what is read; on a later one it only
    # filters.
    behind = index.columns[len(used)].name if len(used) < len(index.columns) else None
    share, residual, passing = shares(outline, table, used, behind)
    held = index.held | set(index_tail(table, engine))
    # InnoDB's primary key is the table.
    if index.name == CLUSTER and table.clustered:
        held = {column.name for column in table.columns}
    needed = {c.column for c in outline.conditions if c.table == table.name}
    if order is not None:
        needed |= {name for owner, name in outline.columns if owner == table.name}
        needed |= set(order.names)
    kind: PathKind = "ordered" if ordered or order is None else "grouped" if alike else "sorted"
    return AccessPath(
        kind=kind,
        index=index,
        fixed=tuple(used),
        share=share,
        residual=residual,
        passing=passing,
        covering=needed <= held and len(outline.tables) == 1 and index.name != CLUSTER,
        bounded=any(c.column == behind and c.kind == "range" for c in outline.conditions),
        # Where rows are sorted anyway, PostgreSQL gathers their places first and visits each block
        # once.
        scan="bitmap" if kind == "sorted" and TRAITS[engine].bitmaps else "index",
        inside=bool(residual) and set(residual) <= held and index.name != CLUSTER,
        branches=max(_values(outline, sets), 1) if branched and ordered else 1,
        runs=_runs(outline, order, table, index, engine, sets),
        presorted=alike,
    )


def _first_terms(
    index: IndexFacts,
    order: Order,
    fixed: Sequence[str],
    table: TableFacts,
    engine: str,
    served: bool,
) -> tuple[str, ...]:
    """Return the first terms of an order that an index gives, where an engine sorts by groups.

    MariaDB never does by itself, but pages by key are `served` so, by one term; the others do where
    groups are expected to be small.
    """
    # What the engine does not do by itself, statements by key can do for it: one term bounds a
    # page.
    own = TRAITS[engine].sorts_groups
    if not own and not served:
        return ()
    held = [column.name for column in index.columns]
    lead = 0
    while lead < len(held) and held[lead] in fixed:
        lead += 1
    rest = IndexFacts(index.name, index.columns[lead:])
    terms = presorted(rest, order, fixed, int(not own))
    # Groups of unknown size may be the whole table, so nothing is built on them.
    known = [table.column(name).distinct for name in terms if table.has_column(name)]
    if not terms or len(known) < len(terms) or not all(known):
        return ()
    values = 1.0
    for value in known:
        values *= value or 1.0
    return terms if 1 / max(values, 1.0) <= _SMALL_GROUP else ()


def _runs(
    outline: Outline,
    order: Order | None,
    table: TableFacts,
    index: IndexFacts,
    engine: str,
    sets: Sequence[str],
) -> tuple[float, ...]:
    """Return the shares of the values of a set that give rows in order, each by itself."""
    # Only a set that leads the index has a run of rows in order for each value.
    if not sets or order is None:
        return ()
    if not serves_order(index, order, _pinned(outline, True), table, engine):
        return ()
    condition = next(c for c in outline.conditions if c.kind == "in" and c.column in sets)
    return value_shares(outline, condition, table)


def _values(outline: Outline, sets: Sequence[str]) -> int:
    """Return how many values a set condition has, 3 where that is not known."""
    for condition in outline.conditions:
        if condition.kind == "in" and condition.column in sets:
            given = outline.params.get(condition.parameter or "", condition.value)
            # Three is about what people choose from a list of check boxes.
            return len(given) if isinstance(given, (list, tuple, set, frozenset)) else 3
    return 1


def _table_path(
    outline: Outline, order: Order | None, table: TableFacts, engine: str
) -> AccessPath:
    """The table itself: in order where it lies in the order of its row id or primary key."""
    # On PostgreSQL rows lie in no order that could be relied on.
    by_key = TRAITS[engine].rows_lie_by == "primary key"
    lies = table.primary_key if by_key else (table.row_id,)
    by_id = order is not None and None not in lies and order.names[: len(lies)] == lies
    # It is read from either end, but not partly from both.
    if by_id and order is not None:
        by_id = len({term.descending for term in order.terms[: len(lies)]}) == 1
    behind = lies[0] if by_id and lies else None
    share, residual, passing = shares(outline, table, (), behind)
    return AccessPath(
        kind="ordered" if by_id or order is None else "sorted",
        index=None,
        fixed=(),
        share=share,
        residual=residual,
        passing=passing,
        covering=False,
        scan="table",
        bounded=any(c.column == behind and c.kind == "range" for c in outline.conditions),
    )


def _with(path: AccessPath, kind: PathKind, explained: ExplainedPath) -> AccessPath:
    scan: Scan = explained.scan if path.index is not None else "table"
    return AccessPath(
        kind=kind,
        index=path.index,
        fixed=path.fixed,
        share=path.share,
        residual=path.residual,
        passing=path.passing,
        covering=explained.covering,
        bounded=path.bounded,
        scan=scan,
        inside=path.inside,
        # One statement was explained: it is one branch, whatever facts proposed.
        branches=1,
        workers=explained.workers,
        runs=path.runs,
        presorted=(),
        parts=explained.parts,
        merged=explained.merged,
        lookups=explained.lookups,
        unknown=explained.unknown,
        backward=explained.backward,
        sorts_first=explained.sorts_first,
    )


def _lost(path: AccessPath, fixed: Sequence[str]) -> list[str]:
    return [name for name in fixed if name not in path.fixed]


def _leaves(path: AccessPath, table: TableFacts) -> float:
    # Without figures an index is taken for a quarter of its table; only the ranking depends on it.
    return table.blocks if path.index is None else path.index.leaf_blocks or table.blocks / 4
