"""Selects that hold only what stands at or behind a place of the order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, bindparam, or_, tuple_

from vrelko.core.seek import KeyRange, plan_ranges
from vrelko.errors import ListingError
from vrelko.sql.keys import plainly
from vrelko.sql.page_source import Source
from vrelko.sql.predicates import build_predicate, first_where
from vrelko.sql.statements import build_keys

TOP = "vrelko_top_"
IDS = "vrelko_ids"
"""Names of bind parameters: of the place's key, and of row ids."""


def keep_behind(
    source: Source, counted: Select[Any], null_keys: Sequence[bool]
) -> tuple[Source, Select[Any]]:
    """Return a source, and the select that is counted, without the rows ahead of a key.

    The row of the key itself stays. Parameters: `vrelko_top_0`, …. Read from the head the
    condition costs the rows that it takes out; no index is needed for it.
    """
    if source.capabilities.ors_lose:
        raise ListingError(
            "a ceiling is an OR of key ranges, which gives wrong rows of a table that is spread "
            "over several servers",
            "Serve it by keyset, which needs no ceiling",
            "shards-ceiling",
        )
    # Parameters of its own: the same statement may go on behind another key.
    apart = replace(source, prefix=TOP)
    everything = tuple(range(len(source.order)))
    # The row of the place itself, and all behind it.
    ranges = (KeyRange(equal=everything), *plan_ranges(source.order, null_keys, "split"))
    behind = or_(*(build_predicate(apart, source.order, part, null_keys) for part in ranges))
    whole = first_where(source, source.select, behind)
    return replace(source, select=whole), first_where(source, counted, behind)


def build_key_by_id(
    source: Source, counted: Select[Any], identity: Sequence[int], null_keys: Sequence[bool]
) -> Select[Any]:
    """Return the statement for the key of one row, by what identifies it.

    Parameters: `vrelko_ids0`, …, those that are not NULL.
    """
    conditions = [
        source.keys[place].is_null if null else source.keys[place].equals(f"{IDS}{i}")
        for i, (place, null) in enumerate(zip(identity, null_keys, strict=True))
    ]
    whole = first_where(source, build_keys(source, counted), and_(*conditions))
    # Two would show that what identifies a row does not.
    return whole.order_by(None).limit(2)


def build_by_ids(source: Source, identity: Sequence[int], count: int) -> Select[Any]:
    """Return the statement for the rows of a list of ids, in no order.

    `identity` are the places in the order of the terms that identify a row. Parameter:
    `vrelko_ids`, a list of values, or of tuples of them. Where values are compared in a form of
    their own: `vrelko_ids0_0`, …, of each of the `count` ids in turn.
    """
    keys = [source.keys[place] for place in identity]
    if has_forms(source, identity):
        each = [
            and_(*(key.equals(f"{IDS}{i}_{j}") for j, key in enumerate(keys))) for i in range(count)
        ]
        return source.select.where(or_(*each)).order_by(None)
    condition: ColumnElement[bool]
    # A tuple of one is no row value to SQLite.
    if len(keys) == 1:
        ids = bindparam(IDS, expanding=True, type_=keys[0].bind)
        condition = plainly(keys[0].element).in_(ids)
    else:
        row = tuple_(*(key.element for key in keys), types=[key.bind for key in keys])
        condition = row.in_(bindparam(IDS, expanding=True))
    return source.select.where(and_(condition)).order_by(None)


def has_forms(source: Source, identity: Sequence[int]) -> bool:
    """Tell whether an id is compared in a form of its own, which no list of values has."""
    keys = [source.keys[place] for place in identity]
    return any(key.casts or key.compared is not None for key in keys)


def id_parameters(
    source: Source, identity: Sequence[int], ids: Sequence[Sequence[Any]]
) -> dict[str, Any]:
    """Return the parameters of `build_by_ids` that carry these ids."""
    if has_forms(source, identity):
        return {f"{IDS}{i}_{j}": v for i, one in enumerate(ids) for j, v in enumerate(one)}
    # An IN of single values is no list of tuples.
    return {IDS: [one[0] for one in ids] if len(identity) == 1 else list(ids)}
