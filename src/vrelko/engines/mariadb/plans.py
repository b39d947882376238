"""Reading MariaDB's EXPLAIN: how a statement comes to the rows of one table.

Only access types and remarks listed here are read. Any other is named in `ExplainedPath.unknown`,
and nothing is concluded from it: pages behind it are counted instead.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from vrelko.core.access_path import CLUSTER, ExplainedPath, Lookup

Row = Mapping[str, Any]

_TYPES = frozenset({"system", "const", "eq_ref", "ref", "range", "index", "ALL"})
_READ = re.compile(
    r"Using (where|index|index condition|filesort|temporary|index for group-by( \(scanning\))?)"
)
"""Remarks whose work is modelled."""


def read_rows(rows: Sequence[Row], names: Collection[str]) -> ExplainedPath | None:
    """Return how a statement reads a table, known by `names`; None where it does not."""
    place = next((i for i, row in enumerate(rows) if row["table"] in names), None)
    # A single table may appear under an alias that we do not know.
    if place is None and len(rows) == 1 and rows[0]["table"]:
        place = 0
    if place is None:
        return None
    row = rows[place]
    sorts = any("filesort" in str(one["Extra"]) for one in rows)
    # The first line of a join may sort for all: whichever has the remark, all rows are sorted.
    key, extra = row["key"], _remarks(row)
    lookups = tuple(
        _lookup(one, first=i < place)
        for i, one in enumerate(rows)
        if one is not row and one["id"] == row["id"]
    )
    unknown = _unknown(rows, place)
    if key is None or row["type"] == "ALL":
        return ExplainedPath(
            "table",
            None,
            False,
            "all" if sorts else "none",
            lookups=lookups,
            sorts_first=sorts,
            unknown=unknown,
        )
    covering = "Using index" in extra and key != CLUSTER
    # A full walk of the index with a filter: the key bounds nothing.
    walked = "Using where" in extra and row["type"] == "index" and row["possible_keys"] is None
    return ExplainedPath(
        "index",
        str(key),
        covering,
        "all" if sorts else "none",
        lookups=lookups,
        unbounded=walked,
        sorts_first=sorts and place == 0,
        unknown=unknown,
    )


def read_deferred(
    rows: Sequence[Row], names: Collection[str]
) -> tuple[ExplainedPath | None, ExplainedPath | None]:
    """Return how a deferred join finds its keys, and how it reads the rows behind them.

    The second is None where each row is sought by its key; otherwise each row is looked for among
    the keys.
    """
    inner = [row for row in rows if row["select_type"] == "DERIVED"]
    outer = [row for row in rows if row["select_type"] != "DERIVED" and row["table"] in names]
    by_key = None
    if outer and outer[0]["type"] in ("ALL", "index"):
        by_key = ExplainedPath("table", None, False, lookups=(Lookup("", None, True, blocks=0.0),))
    return (read_rows(inner, names) if inner else None), by_key


def _remarks(row: Row) -> list[str]:
    return [one.strip() for one in str(row["Extra"] or "").split(";") if one.strip()]


def _lookup(row: Row, first: bool) -> Lookup:
    by_key = row["type"] in ("eq_ref", "ref", "const", "system")
    return Lookup(
        str(row["table"]),
        str(row["key"]) if by_key and row["key"] else None,
        by_key,
        covering="Using index" in _remarks(row),
        matches=float(row["rows"] or 1) if by_key else 1.0,
        first=first,
    )


def _unknown(rows: Sequence[Row], place: int) -> str:
    """Return the first access type or remark whose work is not modelled, empty where all is."""
    ahead = [row for row in rows[:place] if row["id"] == rows[place]["id"]]
    # One small table scanned first, whose rows find ours by key, is modelled; longer chains are
    # not.
    scanned = all(row["type"] in ("ALL", "index") for row in ahead)
    if ahead and not (len(ahead) == 1 and scanned and rows[place]["type"] == "ref"):
        return f"{rows[0]['table']} is read first"
    for row in rows:
        if str(row["table"]).startswith("<derived") or row["select_type"] == "DERIVED":
            continue
        if row["select_type"] not in ("SIMPLE", "PRIMARY"):
            return str(row["select_type"])
        if row["type"] is not None and row["type"] not in _TYPES:
            return str(row["type"])
        for remark in _remarks(row):
            if not _READ.fullmatch(remark):
                return remark
    if any("temporary" in str(row["Extra"]) for row in rows if row not in ahead):
        return "Using temporary"
    return ""
