"""What a plan is made for, and all that the planner has to say about a listing."""

from __future__ import annotations

from dataclasses import dataclass, field

from vrelko.core.access_path import AccessPath
from vrelko.core.cost.checks import Check
from vrelko.core.cost.model import CostModel, make_model
from vrelko.core.cost.rates import Rates, Time
from vrelko.core.cost.routes import Routes
from vrelko.core.cost.work import Work
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.findings import Finding
from vrelko.core.index_advice import Advice
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.sizing import SizeAdvice
from vrelko.core.strategies import Strategy
from vrelko.core.verdict import Candidate, Verdict
from vrelko.core.workload import Needs, Readers, Writers


@dataclass(frozen=True, slots=True)
class Crossover:
    """The row offset at which offset takes `factor` times as long as keyset; None: never."""

    factor: float
    offset: float | None
    page: int | None


@dataclass(frozen=True, slots=True)
class Given:
    """What a plan is made for."""

    readers: Readers = field(default_factory=Readers)
    writers: Writers = field(default_factory=Writers)
    needs: Needs = field(default_factory=Needs)


@dataclass(frozen=True, slots=True)
class VariantUse:
    """One variant in use: its outline, order and share, and its access paths as a server told.

    `rows` it has as the server estimates, where its conditions cannot be read. `checks` hold, for
    each strategy that was run, whether its pages were read right.
    """

    outline: Outline
    order: Order
    share: float
    routes: Routes | None = None
    rows: float | None = None
    checks: tuple[Check, ...] = ()

    def model(self, table: TableFacts, server: ServerFacts) -> CostModel:
        """Return the cost model of the variant's pages."""
        checks = {check.strategy: check for check in self.checks}
        return make_model(self.outline, self.order, table, server, self.routes, self.rows, checks)


@dataclass(frozen=True, slots=True)
class VariantCost:
    """What one variant costs: rows, access path, and each strategy's mean milliseconds a page."""

    order: str
    params: tuple[str, ...]
    share: float
    rows: float
    path: str
    mean_ms: dict[Strategy, float]


@dataclass(frozen=True, slots=True)
class Outlook:
    """What the plan would be once its own advice is followed, as facts predict it.

    `done` names what was done. Milliseconds a page, and rows or entries read for the first and the
    last page, by the verdict's strategy then.
    """

    done: tuple[str, ...]
    strategy: Strategy
    mean_ms: float
    p95_ms: float
    first: float
    last: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Judgement:
    """Everything the planner has to say about one listing, without SQL.

    Rows, pages, path, ladders and crossovers are those of the first variant; burdens and verdict
    weigh all of `variants`. `whole_up_to`: rows up to which loading everything is cheapest.
    `checks` tell, for each strategy whose pages were run, whether they agreed with the prediction.
    `outlook` is what following the advice would give, None where there is none.
    """

    rows: float
    pages: int
    size: int
    path: AccessPath
    candidates: tuple[Candidate, ...]
    crossovers: tuple[Crossover, ...]
    findings: tuple[Finding, ...]
    advice: tuple[Advice, ...]
    verdict: Verdict
    sizes: SizeAdvice
    variants: tuple[VariantCost, ...]
    rates: Rates
    switch: float | None = None
    paths_explained: bool = False
    whole_up_to: int | None = None
    count: Work | None = None
    count_time: Time | None = None
    checks: tuple[Check, ...] = ()
    outlook: Outlook | None = None

    @property
    def reading(self) -> str:
        """How the server's plans were read: predicted, asked, agreed or counted.

        predicted from facts alone; asked by EXPLAIN, with no page run; agreed with every page that
        was run; counted where some did not agree, so that costs come from the counts.
        """
        if not self.paths_explained:
            return "predicted"
        if not self.checks:
            return "asked"
        return "agreed" if all(check.believed for check in self.checks) else "counted"
