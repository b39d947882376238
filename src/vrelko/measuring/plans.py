"""plan: a listing planned from facts, and its reading verified where there is a database."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, overload

from sqlalchemy import Engine, Select, func, literal, select

from vrelko.core.cost.rates import Rates
from vrelko.core.facts import Facts
from vrelko.core.findings import make_finding
from vrelko.core.workload import Needs, Readers, Writers
from vrelko.engines.limits import limit_time
from vrelko.errors import FactsError, ListingError, OrderError, PageError, TimeLimitError
from vrelko.measuring.budget import BUDGET_MS, Spending
from vrelko.measuring.verification import verify
from vrelko.planning.plan import Plan, plan_listings
from vrelko.serving.listing import Listing
from vrelko.surveying.survey import survey


@overload
def plan(
    listing: Listing | Select[Any],
    facts: Facts | None = None,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
    *,
    engine: Engine | None = None,
    rates: Rates | None = None,
    run: bool = True,
    budget_ms: float = BUDGET_MS,
    thorough: bool = False,
) -> Plan: ...
@overload
def plan(
    listing: Sequence[Listing],
    facts: Facts | None = None,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
    *,
    engine: Engine | None = None,
    rates: Rates | None = None,
    run: bool = True,
    budget_ms: float = BUDGET_MS,
    thorough: bool = False,
) -> tuple[Plan, ...]: ...
def plan(
    listing: Listing | Select[Any] | Sequence[Listing],
    facts: Facts | None = None,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
    *,
    engine: Engine | None = None,
    rates: Rates | None = None,
    run: bool = True,
    budget_ms: float = BUDGET_MS,
    thorough: bool = False,
) -> Plan | tuple[Plan, ...]:
    """Plan a listing, a select, or several listings.

    With `engine` the tables are surveyed (unless `facts` are given), the server is asked by EXPLAIN
    how it reads them, and a few pages are run and counted to check that reading: about ten a
    listing, twice as many if `thorough`, in `budget_ms` milliseconds of database time for all. With
    `run=False` nothing is run but EXPLAIN. Without `engine`, `facts` are needed and no database.

    `readers`, `writers` and `needs` default to those the listing was loaded with; `params` are
    typical values of its parameters; `rates` are those of `calibrate`, kept as they are. Several
    listings are advised indexes together. Raises FactsError where facts lack the listing's table or
    columns, DatabaseError when the database refuses, ListingError for a select that cannot be
    paged.
    """
    several: list[Listing]
    if isinstance(listing, Listing):
        several = [listing]
    elif isinstance(listing, Sequence):
        several = list(listing)
    else:
        # A bare select is planned as a grid of its own order, which most who ask that way mean.
        several = [Listing(listing, name="select")]
    if facts is None and engine is None:
        raise FactsError(
            "a plan needs facts or a database",
            "Give engine=, or facts= from vrelko.survey()",
            "plan-nothing",
        )
    # Facts that are given are trusted, even beside a database: a plan for another server's data.
    if facts is None and engine is not None:
        facts = survey(engine, several)
    assert facts is not None
    given = (readers, writers, needs, params)
    if engine is None:
        plans = list(plan_listings(several, facts, *given, rates=rates))
    else:
        # One budget for all: several listings must not take several times as long as was allowed.
        spending = Spending(budget_ms)
        with spending.watch(engine):
            for one in several:
                check_claims(engine, one, spending, params)
            plans = list(plan_listings(several, facts, *given, engine=engine, rates=rates))
        if run and plans:
            plans = _verified(engine, plans, thorough, spending, rates)
        plans = [_with_anchors(engine, one, each) for one, each in zip(several, plans, strict=True)]
    return tuple(plans) if isinstance(listing, Sequence) else plans[0]


def _verified(
    engine: Engine, plans: list[Plan], thorough: bool, spending: Spending, rates: Rates | None
) -> list[Plan]:
    """Return plans whose reading was checked by running pages."""
    found = verify(engine, plans, thorough=thorough, spending=spending)
    # Rates of the user's own stay, yet the reading is checked all the same.
    return found if rates is None else [planned.with_rates(rates) for planned in found]


def _with_anchors(engine: Engine, listing: Listing, planned: Plan) -> Plan:
    """Return a plan with what is to be said of anchors that its listing jumps by."""
    if listing.settings.jumps != "anchors":
        return planned
    described = listing.described
    # Orders that a search brings along have no anchors: they change with what is searched.
    own = described.given[: len(described.given) - described.search_orders]
    found = []
    for order in own:
        try:
            missing = not listing.counted_anchors(engine, str(order)).exist
            evidence, fix = "no anchors are there", "Build them: vrelko anchors build"
        except ListingError as error:
            missing, evidence, fix = True, error.what, error.todo
        if missing:
            evidence = f"{evidence}, so page numbers are reached by offset"
            found.append(make_finding("anchors-missing", f"order {order}", evidence, fix))
    judged = replace(planned.judgement, findings=(*planned.findings, *found))
    return replace(planned, judgement=judged)


_LOOKED_AT = 20_000
"""Rows among which a claimed key is looked for twice."""


def check_claims(
    engine: Engine,
    listing: Listing,
    spending: Spending,
    params: Mapping[str, Any] | None = None,
) -> None:
    """Raise OrderError where two rows share the columns that are said to identify one.

    The first 20,000 rows are looked at, as far as the time for one statement allows.
    """
    described = listing.described
    # A wrapped select groups its rows, so its columns cannot be asked one by one.
    if not listing.claimed or described.wrapped:
        return
    typical = params if params is not None else listing.workload.params
    try:
        values = listing.run_values(listing.check_params(typical))
    except PageError:  # a parameter without a value
        return
    columns = [described.columns[name] for name in described.unique]
    # Whichever rows come first: an order would cost a sort for a mere probe.
    some = listing.select.order_by(None).with_only_columns(*columns, maintain_column_froms=True)
    page = some.limit(_LOOKED_AT).subquery()
    # Grouped in the database: a thousand keys need not travel to be compared.
    twice = select(literal(1)).select_from(page).group_by(*page.c).having(func.count() > 1).limit(1)
    with engine.connect() as connection:
        try:
            with limit_time(connection, max(spending.one_ms, 1.0)):
                found = connection.execute(twice, values).first()
        except TimeLimitError:  # nothing was found wrong in the time there was
            return
    if found is not None:
        names = ", ".join(listing.claimed)
        raise OrderError(
            f"unique = {names} does not identify a row: two rows share their values",
            "Name columns that tell all rows apart, or give the table a primary key",
            "unique-false",
        )
