"""What identifies a row of a select: proven from keys of base tables and equalities alone.

A table's row is determined by a full unique key of it. Equalities between columns hand that on:
those of inner joins and of WHERE in both directions, those of an outer join to its optional side
only. The keys of all tables together identify a row; a table that the others determine need not
give its own. What is not understood proves nothing.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any
from unicodedata import combining, normalize

from sqlalchemy import (
    Column,
    ColumnClause,
    ColumnElement,
    CompoundSelect,
    Index,
    Integer,
    Join,
    Lateral,
    Select,
    String,
)
from sqlalchemy import UniqueConstraint as Unique
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BinaryExpression, BindParameter
from sqlalchemy.sql.selectable import AliasedReturnsRows, FromClause, FromGrouping

from vrelko.errors import ListingError, OrderError
from vrelko.sql.entities import plain_froms
from vrelko.sql.functions import distinct_terms, group_terms, is_extended, multiplies_rows
from vrelko.sql.sources import (
    Sources,
    base_table,
    conjuncts,
    is_row_id,
    is_source,
    plain,
    same,
    table_name,
)

_Key = tuple[Any, ...]


@dataclass
class _Read:
    """Tables as a select joins them, and which columns hand their value on to which."""

    tables: list[FromClause] = field(default_factory=list)
    optional: set[FromClause] = field(default_factory=set)
    hands: list[tuple[Any, Any]] = field(default_factory=list)
    fixed: list[Any] = field(default_factory=list)


def read_sources(select: Select[Any]) -> Sources:
    """Return the tables of a select and the columns proven to identify one of its rows.

    Raises ListingError for what no page can come from; `unique` stays empty without proof.
    """
    read = _read(select)
    if not read.tables:
        raise ListingError(
            "the select reads from no table", "Select columns of a table or join", "select-source"
        )
    unique: _Key = ()
    # A function that gives several rows for one makes every key identify several.
    if not any(multiplies_rows(column) for column in select.selected_columns):
        unique = _prove(read, _passing(select, read.tables))
    return Sources(tuple(read.tables), frozenset(read.optional), unique)


def _read(select: Select[Any]) -> _Read:
    read = _Read()
    for source in plain_froms(select):
        _collect(source, False, read)
    for part in conjuncts(select.whereclause):
        _note(part, read, None, both=True)
    return read


def _collect(source: FromClause, missing: bool, read: _Read) -> list[FromClause]:
    """Note the tables of a source and what its joins equate; return its tables."""
    if isinstance(source, FromGrouping):
        return _collect(source.element, missing, read)
    if isinstance(source, Join):
        # Of an outer join's optional side nothing may be concluded about the other one.
        outer = source.isouter or source.full
        left = _collect(source.left, missing or source.full, read)
        right = _collect(source.right, missing or outer, read)
        # A FULL JOIN has rows without a match on either side, so its condition holds for none of
        # them surely.
        if not source.full:
            for part in conjuncts(source.onclause):
                _note(part, read, right, both=not outer)
        return [*left, *right]
    if not is_source(source):
        raise ListingError(
            f"the select reads from {table_name(source)!r}, which is not a table",
            "Select from tables, subqueries and joins of them",
            "select-source",
        )
    read.tables.append(source)
    if missing:
        read.optional.add(source)
    return [source]


def _note(part: Any, read: _Read, right: list[FromClause] | None, both: bool) -> None:
    """Note an equality: of two columns, or of a column and a value."""
    if not (isinstance(part, BinaryExpression) and part.operator is operators.eq):
        return
    for one, other in ((part.left, part.right), (part.right, part.left)):
        if not isinstance(one, Column):
            continue
        # An outer join's condition fixes columns of its optional side only.
        into = both or any(same(one.table, table) for table in right or ())
        if isinstance(other, BindParameter) and not other.expanding:
            if into and type(one.type) is type(other.type):
                read.fixed.append(one)
        elif isinstance(other, Column) and not same(one.table, other.table):
            within = any(same(other.table, table) for table in right or ())
            if into and (both or not within) and _agree(one, other):
                read.hands.append((other, one))


def _agree(one: Column[Any], other: Column[Any]) -> bool:
    """Tell whether values that are equal to one of these columns are equal to each other."""
    # Integers of any width are equal just where they are the same number.
    if isinstance(one.type, Integer) and isinstance(other.type, Integer):
        return True
    if type(one.type) is not type(other.type):
        texts = isinstance(one.type, String) and isinstance(other.type, String)
        if not texts:
            return False
    # Under another collation 'a' = 'A' may hold, and two rows may match one.
    return getattr(one.type, "collation", None) == getattr(other.type, "collation", None)


def _prove(read: _Read, passing: Sequence[FromClause]) -> _Key:
    """Return the columns that identify a row, none without proof. `passing` tables go first."""
    keys = [_first_key(table) for table in read.tables]
    if not all(keys):
        return ()
    kept = list(range(len(keys)))
    # Tables joined last are the likeliest to be looked up by key, so they are left out first.
    last_first = sorted(kept, key=lambda i: (not _among(read.tables[i], passing), -i))
    # Taken out one by one: what the rest still determines need not be in the key.
    for i in last_first:
        fewer = [j for j in kept if j != i]
        if fewer and _determines(read, [column for j in fewer for column in keys[j]]):
            kept = fewer
    unique = tuple(column for i in kept for column in keys[i])
    if any(_among(column.table, passing) for column in unique):
        raise OrderError(
            "the key of this listing has columns of a table that the join itself brings in, "
            "such as the one between two many-to-many sides",
            "Join that table by its name: .join(link, …).join(other, …)",
            "order-unproven",
        )
    return unique


def _determines(read: _Read, key: Sequence[Any]) -> bool:
    """Tell whether these columns determine the row of every table."""
    # Annotated copies of a column hash alike, so sets of hashes find them.
    known = {hash(column) for column in (*key, *read.fixed)}
    # Each table that becomes known may make another one known: until none is added any more.
    left = list(read.tables)
    while left:
        for one, other in read.hands:
            if hash(one) in known:
                known.add(hash(other))
        found = [
            table
            for table in left
            if any(known.issuperset(map(hash, unique)) for unique in unique_keys(table))
            # Rows of a lateral source are known by their key beside those of the others alone.
            and (not isinstance(table, Lateral) or left == [table])
        ]
        if not found:
            return False
        for table in found:
            known.update(hash(column) for column in table.c)
            left.remove(table)
    return True


def _among(table: Any, tables: Sequence[FromClause]) -> bool:
    return any(same(table, one) for one in tables)


def _passing(select: Select[Any], tables: Sequence[FromClause]) -> list[FromClause]:
    """Return tables that are made anew each time the select is compiled: no column can name them.

    A relationship through a link table joins such an alias.
    """
    # Read a second time: aliases made at each compilation are other objects then.
    again = _Read()
    for source in plain_froms(select):
        _collect(source, False, again)
    return [table for table in tables if not _among(table, again.tables)]


def _first_key(source: FromClause) -> _Key:
    return next(iter(unique_keys(source)), ())


def unique_keys(source: FromClause) -> Iterator[_Key]:
    """Yield the keys of a source: a table's primary key, then its unique keys without NULLs."""
    table = base_table(source)
    if table is None:
        within = getattr(source, "element", None)
        within = getattr(within, "element", within)  # in brackets
        key: _Key = ()
        if isinstance(source, AliasedReturnsRows) and isinstance(within, Select):
            key = key_within(within, list(source.c))
        if isinstance(source, AliasedReturnsRows) and isinstance(within, CompoundSelect):
            key = _key_of_union(within, list(source.c))
        if key:
            yield key
        return
    if len(table.primary_key.columns):
        yield tuple(source.c[column.key] for column in table.primary_key.columns)
    # By name, so that one listing has one key in each process: cursors are bound to it.
    for constraint in sorted(table.constraints, key=lambda c: str(c.name)):
        if isinstance(constraint, Unique) and all(not c.nullable for c in constraint.columns):
            yield tuple(source.c[column.key] for column in constraint.columns)
    for index in sorted(table.indexes, key=lambda index: str(index.name)):
        if index.unique and _covers_rows(index):
            yield tuple(source.c[column.key] for column in index.columns)


def _covers_rows(index: Index) -> bool:
    """Tell whether a unique index holds every row under whole values, and none with NULL."""
    plain_columns = all(isinstance(one, Column) for one in index.expressions)
    options = [index.dialect_options[name] for name in ("sqlite", "postgresql", "mysql")]
    cut = any(one.get("where") is not None or one.get("length") for one in options)
    return plain_columns and not cut and all(not column.nullable for column in index.columns)


def key_within(select: Select[Any], outside: Sequence[Any]) -> _Key:
    """Return the columns, among those shown `outside`, that identify a select's rows."""
    shown = list(select.selected_columns)
    # Columns that were merged under one name cannot be matched by their places.
    if len(shown) != len(outside):
        return ()
    for unique in _row_keys(select):
        found = []
        for key in unique:
            at = next((i for i, one in enumerate(shown) if same(plain(one), plain(key))), None)
            if at is not None:
                found.append(outside[at])
        if found and len(found) == len(unique):
            return tuple(found)
    return ()


def _key_of_union(union: CompoundSelect[Any], outside: Sequence[Any]) -> _Key:
    """Return what identifies a row of a UNION ALL: its members' key beside a constant of each.

    The constants differ, as the type's name does in a union of concrete classes.
    """
    members = [one for one in union.selects if isinstance(one, Select)]
    # Each member has its own rows only where none is cut off or merged with another's.
    whole = len(members) == len(union.selects) and union.keyword.value == "UNION ALL"
    cut = union._limit_clause is not None or union._fetch_clause is not None
    if not whole or cut:
        return ()
    keys = [key_within(one, list(outside)) for one in members]
    # The members' keys stand in the same columns, or they are not comparable.
    if not keys[0] or any([*map(hash, key)] != [*map(hash, keys[0])] for key in keys):
        return ()
    if len(members) == 1:
        return keys[0]
    for at, column in enumerate(outside):
        values = [constant_of(list(one.selected_columns)[at]) for one in members]
        texts = {_folded(one) for one in values if one is not None}
        if len(texts) == len(members):
            return (column, *keys[0])
    return ()


def constant_of(element: Any) -> str | None:
    """Return the text of a whole number or a text that stands in a select, None for all else."""
    element = plain(element)
    if isinstance(element, BindParameter):
        value = element.value
        return str(value) if type(value) in (int, str) and not element.callable else None
    literal = isinstance(element, ColumnClause) and element.is_literal
    return element.name.strip("'") if literal and _CONSTANT.fullmatch(element.name) else None


_CONSTANT = re.compile(r"'(?:[^'\\]|'')*'|-?\d+")
"""A quoted text or a whole number."""


def _folded(text: str) -> str:
    """Return a text without what a collation may overlook: case, accents, trailing blanks."""
    letters = (one for one in normalize("NFKD", text.casefold()) if not combining(one))
    return "".join(letters).rstrip()


def _row_keys(select: Select[Any]) -> Iterator[_Key]:
    """Yield what identifies a row of any select, as far as that is proven."""
    shown = tuple(select.selected_columns)
    distinct = distinct_terms(select)
    # DISTINCT ON keeps one row for each of its terms.
    if distinct:
        yield distinct
    several = any(multiplies_rows(column) for column in shown)
    if several or (is_extended(select) and not distinct):
        return
    # One row a group, whatever keys the tables have.
    if select._group_by_clauses:
        yield group_terms(select)
        return
    if select._distinct and not distinct:
        yield shown
    # A plain select: its tables' own keys.
    yield read_sources(select).unique


def is_nullable(element: ColumnElement[Any], sources: Sources) -> bool:
    """Tell whether an order term may be NULL; expressions always may."""
    column = plain(element)
    table = getattr(column, "table", None)
    if table is None or not isinstance(column, ColumnElement):
        return constant_of(column) is None
    # A row without a match has NULL in each column, NOT NULL ones too.
    if any(same(table, one) for one in sources.optional):
        return True
    if base_table(table) is not None:
        return bool(getattr(column, "nullable", True)) and not is_row_id(column)
    within = getattr(table, "element", None)
    at = next((i for i, one in enumerate(table.c) if same(one, column)), None)
    return at is None or _nullable_at(within, at, len(table.c))


def _nullable_at(select: Any, at: int, width: int) -> bool:
    """Tell whether the values at a position of a select's rows may be NULL."""
    select = getattr(select, "element", select)  # in brackets
    members = getattr(select, "selects", None)
    if members is not None:
        return any(_nullable_at(one, at, width) for one in members)
    if not isinstance(select, Select):
        return True
    shown = list(select.selected_columns)
    if len(shown) != width:
        return True
    read = _read(select)
    inside = Sources(tuple(read.tables), frozenset(read.optional), ())
    return is_nullable(shown[at], inside)
