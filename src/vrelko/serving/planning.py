"""Plans: the planner's judgement of a listing, with the SQL it would run."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, overload

from sqlalchemy import Select
from sqlalchemy.dialects import registry

from vrelko.core.advising import Advice
from vrelko.core.facts import Facts
from vrelko.core.findings import Finding
from vrelko.core.outline import STRATEGIES, Outline
from vrelko.core.planner import Candidate, Given, Judgement, Verdict, judge
from vrelko.core.workload import Needs, Readers, Writers
from vrelko.errors import FactsError, PageError
from vrelko.serving.listing import Listing
from vrelko.sql.rendering import render_sql

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


def statements_text(
    listing: Listing, strategy: str, dialect: str, params: Mapping[str, Any]
) -> tuple[str, ...]:
    """Return the SQL of a strategy's pages, parameters named, sizes as for the default size."""
    variant = listing.variant(dialect, None, params)
    engine = registry.load(dialect)()
    size = listing.sizes.default
    if strategy == "whole":
        selects: tuple[Select[Any], ...] = (variant.whole(),)
    elif strategy == "offset":
        selects = (variant.offset(),)
    else:
        key = [object()] * len(variant.order)
        selects = variant.seek(key, False, near=True)
    assert strategy in STRATEGIES
    return tuple(render_sql(select, engine, size + 1) for select in selects)
