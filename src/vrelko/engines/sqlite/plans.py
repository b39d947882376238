"""Reading SQLite's EXPLAIN QUERY PLAN: how a statement comes to the rows of one table.

Only lines listed here are read. Any other is named in `ExplainedPath.unknown`, and nothing is
concluded from it: pages behind it are counted instead.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from typing import Any

from vrelko.core.access_path import ExplainedPath, Lookup, Sorts

# As SQLite 3.36 and newer write it; other spellings stay unknown, and such pages are counted.
_SCAN = re.compile(
    r"(?P<how>SCAN|SEARCH) (?P<table>.+?)"
    r"( USING (?P<auto>AUTOMATIC )?(?P<covering>COVERING )?(PARTIAL )?"
    r"(INDEX (?P<index>\S+)|(?P<key>INTEGER PRIMARY KEY|PRIMARY KEY)))?"
    r"( (?P<bounds>\(.*\)))?( LEFT-JOIN)?"
)
_SORT = re.compile(r"USE TEMP B-TREE FOR (?P<what>.*)")
_PART = re.compile(r"(RIGHT PART|LAST TERM|LAST \d+ TERMS) OF ORDER BY")
_HARMLESS = re.compile(
    r"(CO-ROUTINE|MATERIALIZE) vrelko_page|SCAN vrelko_page|SEARCH vrelko_page.*|LIST SUBQUERY .*"
)


def read_lines(rows: Sequence[Mapping[str, Any]], names: Collection[str]) -> ExplainedPath | None:
    """Return how a statement reads a table, known by `names`; None where it does not."""
    details = [str(row["detail"]) for row in rows]
    scans = [(detail, found) for detail in details if (found := _SCAN.fullmatch(detail))]
    mine = next((found for _, found in scans if found["table"] in names), None)
    # The table was optimised away, or goes by a name that nobody told.
    if mine is None:
        return None
    others = tuple(
        Lookup(
            one["table"],
            one["index"],
            one["how"] == "SEARCH",
            covering=bool(one["covering"]),
            outer=line.endswith("LEFT-JOIN"),
        )
        for line, one in scans
        if one is not mine and one["table"] not in names and one["table"] != "vrelko_page"
    )
    first = scans[0][1] is mine
    unknown = _unknown(details) or ("" if first else f"{scans[0][1]['table']} is read first")
    # A skip-scan: how often it skips depends on statistics that we do not read.
    if "ANY(" in (mine["bounds"] or ""):
        unknown = unknown or mine.group(0)
    # An automatic index is made for this one statement: the table is read whole for it.
    if mine["index"] is None or mine["auto"]:
        return ExplainedPath("table", None, False, _sorts(details), lookups=others, unknown=unknown)
    return ExplainedPath(
        "index",
        mine["index"],
        bool(mine["covering"]),
        _sorts(details),
        lookups=others,
        unknown=unknown,
    )


def read_deferred(
    rows: Sequence[Mapping[str, Any]], names: Collection[str]
) -> tuple[ExplainedPath | None, ExplainedPath | None]:
    """Return how a deferred join finds its keys, and how it reads the rows behind them.

    The second is None where each row is sought by its key.
    """
    # Our own subquery of keys, by the name that the statement gives it.
    made = ("CO-ROUTINE vrelko_page", "MATERIALIZE vrelko_page")
    top = next((row for row in rows if row["detail"] in made), None)
    if top is None:
        return None, None
    inside = {top["id"]}
    inner, outer = [], []
    for row in rows:
        # Lines are a tree: what stands below the subquery belongs to it.
        if row["parent"] in inside:
            inside.add(row["id"])
            inner.append(row)
        elif row is not top:
            outer.append(row)
    found = read_lines(outer, names)
    scanned = any(
        (one := _SCAN.fullmatch(str(row["detail"])))
        and one["how"] == "SCAN"
        and one["table"] in names
        for row in outer
    )
    by_key = replace(found, sorts="none", unknown="") if found and scanned else None
    return read_lines(inner, names), by_key


def _sorts(details: Sequence[str]) -> Sorts:
    asked = [found["what"] for detail in details if (found := _SORT.fullmatch(detail))]
    if "ORDER BY" in asked:
        return "all"
    return "groups" if any(_PART.fullmatch(what) for what in asked) else "none"


def _unknown(details: Sequence[str]) -> str:
    """Return the first line whose work is not modelled, empty where all is."""
    for detail in details:
        scan, sort = _SCAN.fullmatch(detail), _SORT.fullmatch(detail)
        if scan is not None and not scan["auto"]:
            continue
        if sort is not None and (sort["what"] == "ORDER BY" or _PART.fullmatch(sort["what"])):
            continue
        if _HARMLESS.fullmatch(detail):
            continue
        return detail
    return ""
