"""What a server says it does for a statement: index, order or sort, workers; by EXPLAIN alone."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from sqlalchemy import Select

from vrelko.core.access import CLUSTER, Scan, Seen
from vrelko.engines.estimates import explain, plan_in
from vrelko.engines.registry import dialect_of


def explain_path(
    lender: Any, statement: Select[Any], params: Mapping[str, Any], table: str
) -> Seen | None:
    """Return the access path a server takes to a table for a statement with these values.

    The values are sent with the EXPLAIN, so the optimizer sees them as it does literals. None where
    the table is not read by itself.
    """
    name = dialect_of(lender).name
    if name == "postgresql":
        found = lender.execute(explain(statement), params).scalar()
        return _postgresql(plan_in(found), table)
    rows = lender.execute(explain(statement), params).mappings().all()
    return _sqlite(rows, table) if name == "sqlite" else _mariadb(rows, table)


def explain_join(
    lender: Any, statement: Select[Any], params: Mapping[str, Any], table: str
) -> tuple[Seen | None, Seen | None]:
    """Return how a deferred join finds its keys, and how the rows behind them.

    SQLite is not asked: it takes the index that it takes for whole rows.
    """
    name = dialect_of(lender).name
    if name == "sqlite":
        return None, None
    if name != "postgresql":
        rows = lender.execute(explain(statement), params).mappings().all()
        inner = [row for row in rows if row["select_type"] == "DERIVED"]
        return (_mariadb(inner, table) if inner else None), None
    found = lender.execute(explain(statement), params).scalar()
    plan = plan_in(found)
    keys = next((n for n in _nodes(plan) if n["Node Type"] == "Limit"), plan)
    inside = [id(node) for node in _nodes(keys)]
    others = [
        node
        for node in _nodes(plan)
        if id(node) not in inside and node.get("Relation Name") and node["Node Type"] in _SCANS
    ]
    by = others[0] if others else None
    scan, covering = _SCANS[by["Node Type"]] if by else ("index", False)
    rows_by = None if by is None else Seen(scan, _index_of(by), covering, False)
    return _postgresql(keys, table), rows_by


_SCANS: dict[str, tuple[Scan, bool]] = {
    "Index Scan": ("index", False),
    "Index Only Scan": ("index", True),
    "Bitmap Heap Scan": ("bitmap", False),
    "Seq Scan": ("table", False),
}


def _postgresql(top: Mapping[str, Any], table: str) -> Seen | None:
    nodes = list(_nodes(top))
    sorts = any("Sort" in node["Node Type"] for node in nodes)
    workers = max((int(node.get("Workers Planned", 0)) for node in nodes), default=0)
    for node in nodes:
        if node.get("Relation Name") != table.rpartition(".")[2] or node["Node Type"] not in _SCANS:
            continue
        scan, covering = _SCANS[node["Node Type"]]
        return Seen(scan, _index_of(node), covering, sorts, workers)
    return None


def _index_of(scan: Mapping[str, Any]) -> str | None:
    """Return the index of a scan, of a bitmap's first one."""
    named = [node["Index Name"] for node in _nodes(scan) if "Index Name" in node]
    return str(named[0]) if named else None


def _nodes(node: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
    yield node
    for child in node.get("Plans", ()):
        yield from _nodes(child)


def _mariadb(rows: Any, table: str) -> Seen | None:
    sorts = any("filesort" in str(row["Extra"]) for row in rows)
    for row in rows:
        if row["table"] == table or (len(rows) == 1 and row["table"]):
            key = row["key"]
            if key is None or row["type"] == "ALL":
                return Seen("table", None, False, sorts)
            covering = "Using index" in str(row["Extra"]).replace("Using index condition", "")
            return Seen("index", str(key), covering and key != CLUSTER, sorts)
    return None


def _sqlite(rows: Any, table: str) -> Seen | None:
    details = [str(row["detail"]) for row in rows]
    sorts = any("TEMP B-TREE FOR ORDER BY" in detail for detail in details)
    for detail in details:
        words = detail.split()
        if len(words) < 2 or words[0] not in ("SEARCH", "SCAN") or words[1] != table:
            continue
        if "INDEX" in words and "PRIMARY" not in words:
            index = words[words.index("INDEX") + 1]
            return Seen("index", index, "COVERING" in words, sorts)
        return Seen("table", None, False, sorts)
    return None
