"""Selects that hold only what stands at or behind a place of the order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, bindparam, or_, tuple_

from vrelko.core.seek import KeyRange, plan_ranges
from vrelko.errors import ListingError
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
        source.keys[place].element.is_(None) if null else source.keys[place].equals(f"{IDS}{i}")
        for i, (place, null) in enumerate(zip(identity, null_keys, strict=True))
    ]
    whole = first_where(source, build_keys(source, counted), and_(*conditions))
    # Two would show that what identifies a row does not.
    return whole.order_by(None).limit(2)


def build_by_ids(source: Source, identity: Sequence[int]) -> Select[Any]:
    """Return the statement for the rows of a list of ids, in no order.

    `identity` are the places in the order of the terms that identify a row. Parameter:
    `vrelko_ids`, a list of values, or of tuples of them.
    """
    elements = [source.keys[place].element for place in identity]
    condition: ColumnElement[bool]
    # A tuple of one is no row value to SQLite.
    if len(elements) == 1:
        condition = elements[0].in_(bindparam(IDS, expanding=True))
    else:
        condition = tuple_(*elements).in_(bindparam(IDS, expanding=True))
    return source.select.where(and_(condition)).order_by(None)
