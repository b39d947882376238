"""survey: facts on the tables of a database, read-only and without scanning them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, Engine, Table, func, select
from sqlalchemy.exc import DBAPIError

from vrelko.core.facts import ColumnFacts, Facts, ServerFacts, TableFacts, usual_width
from vrelko.core.outline import Outline
from vrelko.engines.estimates import estimate_rows
from vrelko.engines.registry import database_errors, dialect_of, engine_name
from vrelko.errors import DatabaseError, VrelkoError, nearest
from vrelko.surveying.budget import Budget
from vrelko.surveying.engines import SURVEYS
from vrelko.surveying.samples import COUNT_CAP, count_capped

BUDGET_MS = 1_000.0
"""Milliseconds that sampling and probing may take in all; what is left out is noted."""

_MOST_COUNTED = 10
"""Values of one set condition that are counted."""


def survey(engine: Engine, what: Any = None, budget_ms: float = BUDGET_MS) -> Facts:
    """Return facts on a table (by name or Table), on a listing's tables, or on every table.

    Reads the catalog, the server's statistics and settings, and a bounded number of sampled rows
    and index windows, `budget_ms` milliseconds of them at most. Never runs ANALYZE, writes
    nothing, creates nothing, scans nothing. For a listing, the typical values of its parameters
    are counted too, up to 10,000 index entries each. Raises DatabaseError.
    """
    name_ = engine_name(dialect_of(engine))
    of_engine = SURVEYS[name_]
    budget = Budget(budget_ms)
    with database_errors("survey"), engine.connect() as connection:
        known = of_engine.list_tables(connection)
        names, outlines = _names_of(what, known, name_)
        server = ServerFacts(engine=name_, **of_engine.read_server(connection))
        notes: list[str] = []
        tables: list[TableFacts] = []
        for name in names:
            # What the engine noted of this name may say why nothing was found.
            seen = len(notes)
            found = of_engine.survey_table(connection, name, budget, notes)
            # A listing of a query has no table of its name; what its columns are is known all the
            # same.
            asked = _query_named(what, name) if found is None else None
            if asked is not None:
                found = _survey_query(connection, name, asked, notes)
            if found is None:
                told = notes[seen:]
                if of_engine.elsewhere is not None and "." in name and name not in known:
                    told = [of_engine.elsewhere]
                raise DatabaseError(
                    f"there is no table {name!r} in this database",
                    told[0] if told else nearest(name, known, otherwise="It has no table at all"),
                    "table-missing",
                )
            tables.append(found)
        for outline in outlines:
            tables = [_count_values(connection, table, outline) for table in tables]
    return Facts(server, tuple(tables), tuple(notes))


def _names_of(what: Any, known: Sequence[str], dialect: str) -> tuple[list[str], list[Outline]]:
    """Return the tables to look at, and the outlines whose parameter values to count."""
    if what is None:
        return list(known), []
    if isinstance(what, str):
        return [what], []
    if isinstance(what, Table):
        return [what.fullname], []
    # By what it has: surveying stands below serving, and imports nothing of it.
    if hasattr(what, "outline"):
        outline = what.outline(dialect, what.workload.params)
        return list(dict.fromkeys(outline.tables)), [outline]
    names: list[str] = []
    outlines: list[Outline] = []
    for one in what:
        more, seen = _names_of(one, known, dialect)
        names += [name for name in more if name not in names]
        outlines += seen
    return names, outlines


def _count_values(connection: Connection, table: TableFacts, outline: Outline) -> TableFacts:
    """Return the table with the shares of the outline's parameter values counted by index."""
    # Counting by an index reads the entries of that value; without one it would scan.
    led = {index.columns[0].name for index in table.indexes if index.columns and not index.partial}
    columns = {column.name: column for column in table.columns}
    for condition in outline.conditions:
        given = outline.params.get(condition.parameter or "", condition.value)
        mine = condition.table == table.name and condition.kind in ("equal", "in")
        if not mine or condition.column not in led or not table.rows:
            continue
        # A set is counted value by value: branches read them one by one.
        values = list(given) if condition.kind == "in" and _is_set(given) else [given]
        for value in values[:_MOST_COUNTED]:
            counted = None if value is None else _count(connection, table, condition.column, value)
            if counted is None:
                continue
            column = columns[condition.column]
            # At the cap the true number may be larger: it only counts where statistics had less.
            known = column.share_of(value) or 0.0
            if counted < COUNT_CAP or known * table.rows < counted:  # so many there are at least
                rest = tuple(item for item in column.common if item[0] != str(value))
                common = (*rest, (str(value), counted / table.rows))
                columns[column.name] = replace(column, common=common)
    return replace(table, columns=tuple(columns.values()))


def _is_set(given: Any) -> bool:
    return isinstance(given, (list, tuple, set, frozenset))


def _count(connection: Connection, table: TableFacts, column: str, value: Any) -> int | None:
    """Return how many rows hold a value, None where the database does not take it."""
    of_engine = SURVEYS[engine_name(connection.dialect)]
    source = of_engine.quoted_name(connection, table.name)
    try:
        # PostgreSQL would refuse all else after a value that fits no type.
        with connection.begin_nested():
            return count_capped(connection, source, column, value)
    except DBAPIError:
        return None


_QUERY_ROWS = 100_000


def _query_named(what: Any, name: str) -> Any:
    """Return the listing whose rows come from a query of this name, None where there is none."""
    several = what if isinstance(what, (list, tuple)) else [what]
    for one in several:
        if hasattr(one, "paged_name") and one.paged_table is None and one.paged_name == name:
            return one
    return None


def _survey_query(
    connection: Connection, name: str, listing: Any, notes: list[str]
) -> TableFacts | None:
    """Return what is known of a query: its columns, and its rows as estimated or counted so far."""
    notes.append(f"{name}: what lies behind it is not known here; its pages are counted alone")
    select_ = listing.select.order_by(None)
    try:
        values = listing.run_values(listing.check_params(listing.workload.params))
    except VrelkoError:  # a parameter without a value
        values = None
    rows: float | None = 0.0
    if values is not None:
        rows = estimate_rows(connection, select_, values, None)
        if rows is None:
            some = select_.limit(_QUERY_ROWS).subquery()
            counted = select(func.count()).select_from(some)
            rows = connection.execute(counted, values).scalar()
    columns = tuple(
        ColumnFacts(str(column.key), str(column.type), True, usual_width(str(column.type)))
        for column in listing.select.selected_columns
    )
    bytes_ = 8.0 + sum(column.width or 8.0 for column in columns)
    rows = float(rows or 0.0)
    return TableFacts(
        name=name,
        rows=rows,
        rows_from="estimate of the server",
        row_bytes=bytes_,
        blocks=max(rows * bytes_ / 8192, 1.0),
        columns=columns,
        indexes=(),
        primary_key=(),
        is_view=True,
    )
