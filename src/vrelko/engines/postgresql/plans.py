"""Reading PostgreSQL's EXPLAIN: how a plan comes to the rows of one table.

Only node types listed here are read. Any other is named in `ExplainedPath.unknown`, and nothing is
concluded from it: pages behind it are counted instead.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from itertools import pairwise
from typing import Any

from vrelko.core.access_path import ExplainedPath, Lookup, Scan, Sorts

Node = Mapping[str, Any]

SCANS: dict[str, tuple[Scan, bool]] = {
    "Index Scan": ("index", False),
    "Index Only Scan": ("index", True),
    "Bitmap Heap Scan": ("bitmap", False),
    "Seq Scan": ("table", False),
}
"""Scans of a table: by what, and whether the index alone is read."""

_PASSING = frozenset(
    {
        "Limit",
        "Result",
        "Subquery Scan",
        "LockRows",
        "Gather",
        "Gather Merge",
        "Append",
        "Merge Append",
        "Aggregate",
        "Unique",
        "Memoize",
        "Materialize",
        "Incremental Sort",
        "Sort",
        "Nested Loop",
        "Hash Join",
        "Merge Join",
        "Hash",
        *SCANS,
    }
)
"""Nodes between the top and a scan whose work is modelled."""

_INSIDE = frozenset({"Bitmap Index Scan", "BitmapOr", "BitmapAnd"})
_JOINS = frozenset({"Nested Loop", "Hash Join", "Merge Join"})


def read_plan(
    top: Node, names: Collection[str], parts: Collection[str] = ()
) -> ExplainedPath | None:
    """Return how a plan reads a table, known by `names`, and its partitions, known as `parts`.

    None where the plan does not read it.
    """
    # Only what stands between the top and the table decides how its rows come.
    trail = _trail(top, {*names, *parts})
    if trail is None:
        return None
    found = trail[-1]
    scan, covering = SCANS.get(found["Node Type"], ("table", False))
    # Partitions that were pruned are not in the plan, so those left are counted.
    parents = [node for node in trail if node["Node Type"] in ("Append", "Merge Append")]
    children = [n for n in nodes(parents[-1]) if "Relation Name" in n] if parents else []
    return ExplainedPath(
        scan,
        index_of(found),
        covering,
        _sorts(trail),
        workers=max(int(node.get("Workers Planned", 0)) for node in nodes(top)),
        presorted=min((len(n["Presorted Key"]) for n in trail if "Presorted Key" in n), default=0),
        parts=len(children),
        merged=any(node["Node Type"] == "Merge Append" for node in parents),
        lookups=tuple(_lookups(trail)),
        rows=float(found["Plan Rows"]) if _is_mixed(found) else None,
        backward=found.get("Scan Direction") == "Backward",
        sorts_first=_sorts_first(trail),
        unknown=_unknown(top, trail, parts),
    )


def read_deferred(
    top: Node, names: Collection[str], parts: Collection[str] = ()
) -> tuple[ExplainedPath | None, ExplainedPath | None]:
    """Return how a deferred join finds its keys, and how it reads the rows behind them.

    The second is None where each row is sought by its key.
    """
    # Below the LIMIT the keys are found; above it their rows.
    keys = next((n for n in nodes(top) if n["Node Type"] == "Limit"), top)
    inside = {id(node) for node in nodes(keys)}
    joins = [n for n in nodes(top) if n["Node Type"] in _JOINS and id(n) not in inside]
    known = {*names, *parts}
    outer = next(
        (n for n in nodes(top) if id(n) not in inside and n.get("Relation Name") in known), None
    )
    by_key = None
    # A nested loop seeks each row by its key, which is what a deferred join is priced as.
    if outer is not None and joins and joins[-1]["Node Type"] != "Nested Loop":
        scan, covering = SCANS.get(outer["Node Type"], ("table", False))
        by_key = ExplainedPath(scan, index_of(outer), covering)
    return read_plan(keys, names, parts), by_key


def nodes(node: Node) -> Iterator[Node]:
    """Yield a node and all below it."""
    yield node
    for child in node.get("Plans", ()):
        yield from nodes(child)


def index_of(scan: Node) -> str | None:
    """Return the index of a scan, of a bitmap's first one."""
    named = [node["Index Name"] for node in nodes(scan) if "Index Name" in node]
    return str(named[0]) if named else None


def _trail(node: Node, names: Collection[str]) -> list[Node] | None:
    """Return the nodes from the top to the first scan of a table."""
    if node.get("Relation Name") in names:
        return [node]
    for child in node.get("Plans", ()):
        # A subquery of its own may read the same table, and is not how the page is read.
        if child.get("Parent Relationship") in ("InitPlan", "SubPlan"):
            continue
        below = _trail(child, names)
        if below is not None:
            return [node, *below]
    return None


def _sorts(trail: list[Node]) -> Sorts:
    kinds = [node["Node Type"] for node in trail]
    # Hashing loses the order as a sort would give it: all rows are read before the first.
    hashed = any(node.get("Strategy") in ("Hashed", "Mixed") for node in trail)
    if "Sort" in kinds or "Hash" in kinds or hashed:
        return "all"
    return "groups" if "Incremental Sort" in kinds else "none"


def _sorts_first(trail: list[Node]) -> bool:
    """Tell whether rows are sorted below all joins."""
    kinds = [node["Node Type"] for node in trail]
    sorts = [i for i, kind in enumerate(kinds) if kind == "Sort"]
    joins = [i for i, kind in enumerate(kinds) if kind in _JOINS]
    return bool(sorts) and bool(joins) and min(sorts) > max(joins)


def _is_mixed(scan: Node) -> bool:
    """Tell whether several indexes or ranges together give a bitmap, so that only it knows."""
    return any(node["Node Type"] in ("BitmapOr", "BitmapAnd") for node in nodes(scan))


def _lookups(trail: list[Node]) -> Iterator[Lookup]:
    """Yield how the other tables of the joins above a scan are read."""
    for node, below in pairwise(trail):
        if node["Node Type"] not in _JOINS:
            continue
        (other,) = (child for child in node["Plans"] if child is not below)
        leaf = next((one for one in nodes(other) if "Relation Name" in one), other)
        # A materialized side is read once and kept, however often it is gone through.
        each = node["Node Type"] == "Nested Loop" and other["Node Type"] != "Materialize"
        yield Lookup(
            str(leaf.get("Relation Name", other["Node Type"])),
            index_of(leaf) if each else None,
            each,
            any(one["Node Type"] == "Memoize" for one in nodes(other)),
            leaf["Node Type"] == "Index Only Scan",
        )


def _unknown(top: Node, trail: list[Node], parts: Collection[str]) -> str:
    """Return the first node whose work is not modelled, empty where all is."""
    for node in trail:
        if node["Node Type"] not in _PASSING:
            return str(node["Node Type"])
        if node["Node Type"] in ("Append", "Merge Append") and not any(
            one.get("Relation Name") in parts for one in nodes(node)
        ):
            return f"{node['Node Type']} over no partitions"
    for node, below in pairwise(trail):
        # Led by another table the page's rows come in no order of ours.
        leads = node["Plans"][0] is below
        if node["Node Type"] in _JOINS and not leads:
            return f"{node['Node Type']} led by another table"
        if node["Node Type"] == "Merge Join":
            return "Merge Join"
    for node in nodes(top):
        if node.get("Parent Relationship") in ("InitPlan", "SubPlan"):
            return str(node.get("Subplan Name", node["Parent Relationship"]))
        if node["Node Type"] not in _PASSING | _INSIDE:
            return str(node["Node Type"])
    return ""
