"""Sampling filters along an order: whether the rows that pass stand together, and where.

A few rows are read at up to 64 places of the order, whose keys come from the table's statistics.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import Column, Connection, Select, and_, case, literal_column, select
from sqlalchemy.sql import visitors

from vrelko.core.access_path import AccessPath
from vrelko.core.cost.profiles import LOOKED, find_profile
from vrelko.core.judgement import VariantUse
from vrelko.engines.limits import limit_time
from vrelko.errors import PageError, TimeLimitError
from vrelko.measuring.budget import Spending
from vrelko.planning.key_ladder import KeyLadder
from vrelko.planning.plan import Plan
from vrelko.sql.sources import conjuncts

PLACES = 64
"""Places looked at along an order."""

_LEAST_ROWS = 5_000  # smaller tables are walked as fast
_STEP = "vrelko_step"


def profile_use(
    connection: Connection, plan: Plan, use: VariantUse, spending: Spending
) -> VariantUse:
    """Return a variant with profiles of the filters that its paths test along the order."""
    path = use.routes.page if use.routes is not None else None
    table = plan.facts.table(use.outline.table)
    if path is None or use.routes is None or not _is_tested(path) or table.rows < _LEAST_ROWS:
        return use
    # Rows of a join have no one place along an index.
    if use.outline.opaque or len(use.outline.tables) > 1 or spending.one_ms <= 0:
        return use
    try:
        with limit_time(connection, spending.one_ms):
            passed = _sample(connection, plan, use, path, spending)
    except (TimeLimitError, PageError):
        connection.rollback()
        return use
    profile = find_profile(passed, LOOKED)
    if not profile:
        return use

    def told(one: AccessPath) -> AccessPath:
        if not _is_tested(one) or set(one.residual) != set(path.residual):
            return one
        return replace(one, profile=profile)

    return replace(use, routes=use.routes.each(told))


def _is_tested(path: AccessPath) -> bool:
    return path.kind == "ordered" and bool(path.residual) and path.branches == 1


def _sample(
    connection: Connection, plan: Plan, use: VariantUse, path: AccessPath, spending: Spending
) -> list[int]:
    """Return how many of the rows at each place pass, two places for each that was looked at.

    None where no place can be named.
    """
    listing = plan.served
    names = [str(order) for order in use.outline.orders]
    allowed = listing.orders(plan.facts.server.engine)[names.index(str(use.order))]
    variant = listing.lent_variant(connection, str(allowed), use.outline.params)
    table = plan.facts.table(use.outline.table)
    ladder = KeyLadder(variant, use.order, table, path.fixed)
    where = getattr(variant.bare().select, "whereclause", None)
    parts = list(conjuncts(where))
    # Conditions that the index answers by itself stay; the others are what is sampled.
    kept = [part for part in parts if _columns(part) & set(path.fixed)]
    tested = [part for part in parts if part not in kept]
    lead = next((i for i, name in enumerate(use.order.names) if name not in path.fixed), None)
    if len(ladder.shares) < 8 or not tested or lead is None or path.fixed:
        return []
    key = variant.source.keys[lead]
    down = use.order.terms[lead].descending
    start = key.parameter(_STEP)
    # Rows that fail are fetched too: their share is what is looked for.
    flag = case((and_(*tested), literal_column("1")), else_=literal_column("0"))
    bare: Select[Any] = (
        select(flag)
        .select_from(*variant.bare().select.get_final_froms())
        .where(*kept)
        .limit(LOOKED)
    )
    # From the far end the last part is looked at as a reader would come to it.
    ahead, back = key.element.asc(), key.element.desc()
    if down:
        ahead, back = back, ahead
    behind = bare.where(key.element <= start if down else key.element >= start).order_by(ahead)
    values = listing.run_values(use.outline.params)

    def passed(statement: Select[Any], **given: Any) -> int:
        rows = connection.execute(statement, {**values, **given}).all()
        return sum(int(row[0]) for row in rows)

    found = []
    for step in ladder.leads(PLACES):
        # Half of the budget is kept for the pages themselves.
        if spending.left_ms < spending.budget_ms / 2:
            return []
        found += [passed(behind, **{_STEP: step})] * 2
    # Each place stands for half of the part ahead of it and half of the one behind it.
    return [passed(bare.order_by(ahead)), *found[2:], passed(bare.order_by(back))]


def _columns(part: Any) -> set[str]:
    return {one.name for one in visitors.iterate(part) if isinstance(one, Column)}
