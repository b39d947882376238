"""How values are spread, by PostgreSQL's statistics: most common values and a histogram."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Table, text
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.distribution import SORTED_ALIKE, Distribution


def read_distribution(
    lender: Any, table: Table, column: str, dialect: Dialect
) -> Distribution | None:
    """Return what pg_stats has of a column of numbers or moments; None without statistics.

    The histogram divides the rows that have none of the common values.
    """
    kind = table.c[column].type.compile(dialect=dialect)
    name = dialect.identifier_preparer.format_table(table)
    asked = text(
        f"SELECT s.null_frac, CAST(CAST(s.most_common_vals AS text) AS {kind}[]), "
        f"s.most_common_freqs, CAST(CAST(s.histogram_bounds AS text) AS {kind}[]) "
        "FROM pg_stats s JOIN pg_class c ON c.oid = CAST(:name AS regclass) "
        "JOIN pg_namespace n ON n.oid = c.relnamespace "
        "WHERE s.schemaname = n.nspname AND s.tablename = c.relname AND s.attname = :column "
        "ORDER BY s.inherited DESC LIMIT 1"
    )
    found = lender.execute(asked, {"name": name, "column": column}).one_or_none()
    if found is None:
        return None
    nulls, values, shares, bounds = found
    common = dict(zip(values or (), map(float, shares or ()), strict=True))
    known = [*common, *(bounds or ())]
    # Texts are sorted by collations, between whose values nothing can be interpolated here.
    if not known or not all(type(value) in SORTED_ALIKE for value in known):
        return None
    return Distribution(tuple(bounds or ()), common, float(nulls))
