"""Plans: the planner's judgement of a listing, with the SQL it would run."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, overload

from sqlalchemy import Select

from vrelko.core.advising import Advice
from vrelko.core.facts import Facts
from vrelko.core.findings import Finding
from vrelko.core.outline import SERVED, Outline, check_choice
from vrelko.core.planner import Candidate, Given, Judgement, Verdict, judge
from vrelko.core.workload import Needs, Readers, Writers
from vrelko.engines.registry import dialect_named
from vrelko.errors import FactsError, PageError
from vrelko.serving.listing import Listing
from vrelko.sql.rendering import render_routine, render_sql
from vrelko.sql.statements import build_offset

SCHEMA = "vrelko.plan/1"


@dataclass(frozen=True)
class Plan:
    """How to serve one listing: the verdict, and everything it rests on.

    `judgement` holds rows, access path, candidates, crossovers, findings and index advice; the
    properties name its parts. `facts` are those it was made from.
    """

    listing: str
    served: Listing
    outline: Outline
    facts: Facts
    given: Given
    judgement: Judgement
    params: Mapping[str, Any]

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

        return pandas.DataFrame(
            {"strategy": c.strategy, "page": r.page, "offset": r.offset, **asdict(r.work),
             "ms": r.work.ms}
            for c in self.candidates for r in c.ladder
        )  # fmt: skip

    def as_dict(self) -> dict[str, Any]:
        """Return the plan as plain data (schema `vrelko.plan/1`)."""
        judged = asdict(self.judgement)
        return {
            "schema": SCHEMA,
            "listing": self.listing,
            "kind": self.outline.kind,
            "orders": [str(order) for order in self.outline.orders],
            "given": asdict(self.given),
            **judged,
            "path": self.judgement.path.text,
        }

    def to_json(self) -> str:
        """Return the plan as JSON text."""
        return json.dumps(self.as_dict(), indent=2, default=str)


@overload
def plan(
    listing: Listing,
    facts: Facts,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
) -> Plan: ...
@overload
def plan(
    listing: Sequence[Listing],
    facts: Facts,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
) -> tuple[Plan, ...]: ...
def plan(
    listing: Listing | Sequence[Listing],
    facts: Facts,
    readers: Readers | None = None,
    writers: Writers | None = None,
    needs: Needs | None = None,
    params: Mapping[str, Any] | None = None,
) -> Plan | tuple[Plan, ...]:
    """Plan a listing, or several, from facts; no database is asked.

    `readers`, `writers` and `needs` default to those the listing was loaded with, else to their
    classes' defaults; `params` are typical values of its parameters.
    Raises FactsError where the facts lack the listing's table or columns.
    """
    if not isinstance(listing, Listing):
        return tuple(plan(one, facts, readers, writers, needs, params) for one in listing)
    usual = listing.workload
    given = Given(readers or usual.readers, writers or usual.writers, needs or usual.needs)
    values = dict(params if params is not None else usual.params)
    dialect = facts.server.engine
    outline = listing.outline(dialect, values)
    if facts.table(outline.table).rows < 0:
        raise FactsError("a table cannot have fewer than 0 rows", "Correct the facts", "facts-rows")
    judgement = judge(outline, facts, given)
    with_sql = tuple(
        replace(candidate, sql=statements_text(listing, candidate.strategy, dialect, values))
        for candidate in judgement.candidates
    )
    whole = replace(judgement, candidates=with_sql)
    return Plan(listing.name, listing, outline, facts, given, whole, values)


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
    check_choice(strategy, SERVED, "strategy")
    variant = listing.variant(dialect, order, params)
    usual = {"keyset": "after", "whole": "whole"}.get(strategy, "offset")
    shape = shape or usual
    check_choice(shape, SHAPES, "shape")
    key = [object()] * len(variant.order)
    if shape == "offset":
        deferred = strategy == "deferred-join"
        selects: tuple[Select[Any], ...] = (variant.deferred() if deferred else variant.offset(),)
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

    Raises ListingError for engines other than PostgreSQL and MariaDB.
    """
    variant = listing.variant(dialect, order, params)
    statement = build_offset(variant.bare())
    return render_routine(listing.name, statement, dialect_named(dialect), listing.sizes)
