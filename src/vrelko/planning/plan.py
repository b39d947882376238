"""Plans: the planner's judgement of a listing, with the SQL it would run."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import cached_property
from typing import Any

from sqlalchemy import Engine, Select

from vrelko.core.cost.model import CostModel
from vrelko.core.cost.rates import Clock, Rates
from vrelko.core.drift.costs import StrategyCost, cost_strategies
from vrelko.core.drift.expectation import overlap_for
from vrelko.core.drift.stream import Stream
from vrelko.core.facts import Facts
from vrelko.core.findings import Finding
from vrelko.core.index_advice import Advice, merge_advice
from vrelko.core.judgement import Given, Judgement, VariantUse
from vrelko.core.outline import Outline, check_choice
from vrelko.core.planner import judge
from vrelko.core.strategies import RECORDS, STRATEGIES
from vrelko.core.verdict import Candidate, Verdict
from vrelko.core.workload import Needs, Readers, Use, Writers
from vrelko.engines.registry import database_errors, dialect_named
from vrelko.errors import PageError
from vrelko.planning.access_paths import route_use
from vrelko.serving.listing import Listing
from vrelko.sql.routines import Routine, render_routine
from vrelko.sql.text import render_sql

SCHEMA = "vrelko.plan/3"
_OVERLAP_CHANCE = 0.01


@dataclass(frozen=True, kw_only=True)
class Plan:
    """How to serve one listing: the verdict, and everything it rests on.

    `judgement` holds rows, access path, candidates, crossovers, findings and index advice; the
    properties name its parts. `facts` are those it was made from, `uses` the variants in use.
    `spent_ms` of database time went into asking and running pages; `left_out` names what was not
    run because it would have taken too long.
    """

    listing: str
    served: Listing
    outline: Outline
    facts: Facts
    given: Given
    judgement: Judgement
    params: Mapping[str, Any]
    uses: tuple[VariantUse, ...] = ()
    spent_ms: float = 0.0
    left_out: tuple[str, ...] = ()

    @property
    def verdict(self) -> Verdict:
        """The strategy to take, with reasons."""
        return self.judgement.verdict

    @property
    def candidates(self) -> tuple[Candidate, ...]:
        """Every strategy with its work by page."""
        return self.judgement.candidates

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Coded warnings with evidence and fix."""
        return self.judgement.findings

    @property
    def indexes(self) -> tuple[Advice, ...]:
        """Indexes worth making."""
        return self.judgement.advice

    @property
    def stream(self) -> Stream:
        """The changes of the listing's rows."""
        return Stream.of(self.judgement.rows, self.given.writers)

    @cached_property
    def overlap(self) -> int:
        """The rows to ask for again, so that a walk misses any with a chance of 1 % at most."""
        pages, dwell = self.candidates[0].drift.pages, self.given.readers.dwell_s
        # A single page has nothing behind it that could shift.
        if pages < 2:
            return 0
        return overlap_for(self.stream, self.judgement.size, pages, dwell, _OVERLAP_CHANCE)

    @cached_property
    def strategy_costs(self) -> tuple[StrategyCost, ...]:
        """What each strategy of keeping pages steady costs the database, and keeps."""
        # By the rates the plan was judged with, so that its figures fit together.
        clock = Clock(self.judgement.rates, self.facts.server)
        return cost_strategies(
            self.usual_model(), self.given.readers, clock, self.judgement.size, self.overlap
        )

    def usual_model(self) -> CostModel:
        """Return the cost model of the first variant in use."""
        # What most readers ask for stands first; prices of strategies are told for it alone.
        use = self.uses[0] if self.uses else VariantUse(self.outline, self.outline.orders[0], 1.0)
        return use.model(self.facts.table(use.outline.table), self.facts.server)

    def check_values(self) -> None:
        """Raise PageError unless every parameter has a value, so that pages can be run."""
        try:
            self.served.check_params(self.params)
        except PageError as error:
            raise PageError(
                f"pages of {self.listing!r} cannot be run: {error.what}",
                f"Give plan(params=…), or typical values under [listing.{self.listing}.params] "
                "in the pages file",
                error.code,
            ) from error

    def to_frame(self) -> Any:
        """Return the ladders as a pandas DataFrame, a row for each strategy and page."""
        import pandas

        return pandas.DataFrame(self.ladder_rows())

    def ladder_rows(self) -> list[dict[str, Any]]:
        """Return the ladders as plain rows, one for each strategy and page."""
        return [
            {
                "strategy": c.strategy,
                "page": r.page,
                "offset": r.offset,
                **asdict(r.work),
                **asdict(r.time),
                "cold_ms": r.cold_ms,
            }
            for c in self.candidates
            for r in c.ladder
        ]

    def as_dict(self) -> dict[str, Any]:
        """Return the plan as plain data (schema `vrelko.plan/3`)."""
        # All that was judged goes out: what a table leaves out, a script may need.
        judged = asdict(self.judgement)
        return {
            "schema": SCHEMA,
            "listing": self.listing,
            "kind": self.outline.kind,
            "orders": [str(order) for order in self.outline.orders],
            "given": asdict(self.given),
            **judged,
            "path": self.judgement.path.text,
            "strategy_costs": [asdict(strategy) for strategy in self.strategy_costs],
        }

    def to_json(self) -> str:
        """Return the plan as JSON text."""
        return json.dumps(self.as_dict(), indent=2, default=str)

    def verified(
        self,
        uses: tuple[VariantUse, ...],
        rates: Rates,
        spent_ms: float,
        left_out: tuple[str, ...] = (),
    ) -> Plan:
        """Return the plan judged again with its pages counted, and rates fitted to them."""
        # Texts stay: what a page is asked by does not depend on what it costs.
        plan = replace(self, uses=uses, spent_ms=spent_ms, left_out=left_out)
        return plan._judged(self.given, rates)

    def with_rates(self, rates: Rates) -> Plan:
        """Return the plan judged again by rates calibrated on the server."""
        return self._judged(self.given, rates)

    def with_readers(self, readers: Readers) -> Plan:
        """Return the plan judged again for other readers, such as those of an access log."""
        return self._judged(replace(self.given, readers=readers), self.judgement.rates)

    def _judged(self, given: Given, rates: Rates) -> Plan:
        judgement = judge(self.outline, self.facts, given, self.uses, rates)
        # Other readers or rates change what pages cost, never how they are asked for.
        texts = {candidate.strategy: candidate.sql for candidate in self.candidates}
        return replace(self, given=given, judgement=_with_texts(judgement, texts))


def plan_listings(
    listings: Sequence[Listing],
    facts: Facts,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
    *,
    engine: Engine | None = None,
    rates: Rates | None = None,
) -> tuple[Plan, ...]:
    """Plan listings from facts, their indexes advised together; no page is run.

    With `engine` the server is asked by EXPLAIN which access paths it takes, and from which depth
    another one; without, they are predicted. Raises FactsError where the facts lack a listing's
    table or columns, DatabaseError when the database refuses.
    """
    given = readers, writers, needs
    return _advised_together(
        [_plan_one(one, facts, given, params, engine, rates) for one in listings]
    )


def _plan_one(
    listing: Listing,
    facts: Facts,
    asked: tuple[Readers | None, Writers | None, Needs | None],
    params: Mapping[str, Any] | None,
    engine: Engine | None,
    rates: Rates | None,
) -> Plan:
    readers, writers, needs = asked
    usual = listing.workload
    given = Given(readers or usual.readers, writers or usual.writers, needs or usual.needs)
    # {} is an answer too: no typical values.
    values = dict(params if params is not None else usual.params)
    dialect = facts.server.engine
    outline = listing.outline(dialect, values)
    uses = _uses_of(listing, outline, dialect, values)
    # Before judging, since which paths the server takes decides what pages cost.
    if engine is not None:
        with database_errors("EXPLAIN"), engine.connect() as connection:
            uses = tuple(route_use(connection, listing, use, facts) for use in uses)
    judgement = judge(outline, facts, given, uses, rates)
    texts = {
        candidate.strategy: statements_text(listing, candidate.strategy, dialect, values)
        for candidate in judgement.candidates
    }
    return Plan(
        listing=listing.name,
        served=listing,
        outline=outline,
        facts=facts,
        given=given,
        judgement=_with_texts(judgement, texts),
        params=values,
        uses=uses,
    )


def _with_texts(judgement: Judgement, texts: Mapping[Any, tuple[str, ...]]) -> Judgement:
    candidates = tuple(replace(c, sql=texts.get(c.strategy, ())) for c in judgement.candidates)
    return replace(judgement, candidates=candidates)


def _uses_of(
    listing: Listing, outline: Outline, dialect: str, values: Mapping[str, Any]
) -> tuple[VariantUse, ...]:
    """Return the variants in use; by default half of the requests go to the default order."""
    if not listing.workload.uses:
        # Nobody said which orders are used: the default one is what most readers never change.
        others = outline.orders[1:]
        half = 0.5 if others else 1.0
        return (
            VariantUse(outline, outline.orders[0], half),
            *(VariantUse(outline, order, 0.5 / len(others)) for order in others),
        )
    return tuple(_use_of(listing, dialect, values, use) for use in listing.workload.uses)


def _use_of(listing: Listing, dialect: str, values: Mapping[str, Any], use: Use) -> VariantUse:
    # A use says itself which optional filters its requests bring along.
    kept = listing.filters.unless_optional(values)
    params = {**kept, **use.params}
    outline = listing.outline(dialect, params)
    variant = listing.variant(dialect, use.order, params)
    texts = [str(order) for order in listing.orders(dialect)]
    # An order that a search brings along is planned as the default one.
    place = texts.index(str(variant.order)) if str(variant.order) in texts else 0
    return VariantUse(outline, outline.orders[min(place, len(outline.orders) - 1)], use.share)


def _advised_together(plans: Sequence[Plan]) -> tuple[Plan, ...]:
    """Return plans whose index advice names each index once, with all that it serves."""
    merged = merge_advice(advice for one in plans for advice in one.indexes)
    found = []
    for one in plans:
        # An index that serves two listings is printed with both.
        mine = tuple(a for a in merged if any(s.startswith(f"{one.listing}: ") for s in a.serves))
        found.append(replace(one, judgement=replace(one.judgement, advice=mine)))
    return tuple(found)


SHAPES = ("first", "last", "after", "before", "offset", "whole")
"""Which page a statement is for: the first, one behind a key, …"""


def statements_text(
    listing: Listing,
    strategy: str,
    dialect: str,
    params: Mapping[str, Any],
    shape: str | None = None,
    order: str | None = None,
) -> tuple[str, ...]:
    """Return the SQL of a strategy's pages, parameters named, sizes as for the default size.

    `shape` is one of SHAPES, the usual one of the strategy where left out.
    """
    check_choice(strategy, STRATEGIES, "strategy")
    variant = listing.variant(dialect, order, params)
    record = RECORDS[strategy]
    shape = shape or record.shape
    check_choice(shape, SHAPES, "shape")
    # Its values are parameters in the text, so any will do.
    key = [object()] * len(variant.order)
    if shape == "offset":
        by_offset = variant.deferred() if record.deferred else variant.offset()
        selects: tuple[Select[Any], ...] = (by_offset,)
    elif shape == "whole":
        selects = (variant.whole(),)
    elif shape in ("first", "last"):
        selects = variant.edge(shape == "last")
    else:
        selects = variant.seek(key, shape == "before", near=True)
    size = listing.sizes.default
    return tuple(render_sql(select, dialect_named(dialect), size + 1) for select in selects)


def routine_text(
    listing: Listing, dialect: str, params: Mapping[str, Any], order: str | None = None
) -> str:
    """Return a stored routine for a listing's pages by number and size.

    Filters are left out by NULL, sets of values and searches altogether. Its last column is the
    total where the listing has one, else whether more rows follow. Raises ListingError for SQLite.
    """
    # Without optional filters in the variant: the routine leaves each out by itself.
    filters = listing.filters
    variant = listing.variant(dialect, order, filters.unless_optional(params))
    asked = [
        one
        for name, one in filters.optional.items()
        # No routine takes a set of values as one parameter.
        if not any(filters.types[key][1] for key in filters.needs[name])
    ]
    # A routine counts on each call: no cursor carries a total there.
    cap = listing.cap if listing.total == "capped" else None
    total = listing.total in ("exact", "capped")
    routine = Routine(
        name=listing.name,
        source=variant.bare(),
        sizes=listing.sizes,
        filters=asked,
        total=total,
        cap=cap,
    )
    return render_routine(routine, dialect_named(dialect))
