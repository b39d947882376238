"""calibrate: the rates of a server, from a small ladder of a plan's own pages."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sqlalchemy import Connection, Engine

from vrelko.core.cost.calibration import Timing, fit_rates
from vrelko.core.cost.rates import Clock, Rates, shipped_rates
from vrelko.engines.registry import database_errors
from vrelko.errors import PageError
from vrelko.measuring.trials import Bench, Trial, time_trials
from vrelko.serving.planning import Plan

DEPTH_SHARE, MOST_DEPTH = 0.05, 20_000
"""The offset of the ladder's deep pages: a twentieth of the rows, at most so many."""

_MOST_MS = 150.0  # a statement predicted to take longer is asked less deep
_ROUNDS = 5


def calibrate(engine: Engine, plans: Plan | Sequence[Plan], thorough: bool = False) -> Rates:
    """Return rates fitted to this server: four pages of each plan timed, twelve if `thorough`.

    Each is run six times and its fastest time taken; what is predicted to take longer than 150 ms
    is left out. Reads only. Without any plan whose parameters have values: the shipped rates.
    """
    many = [plans] if isinstance(plans, Plan) else list(plans)
    timings: list[Timing] = []
    clock = None
    with database_errors("calibration"), engine.connect() as connection:
        for plan in many:
            clock = Clock(shipped_rates(plan.facts.server.engine), plan.facts.server)
            try:
                trials = list(_ladder(connection, plan, clock, thorough))
            except PageError:  # a parameter without a value
                continue
            timings += [
                Timing(trial.estimate, ms, trial.path) for trial, ms in time_trials(trials, _ROUNDS)
            ]
    assert clock is not None, "calibrate takes at least one plan"
    return fit_rates(clock, timings)


def _ladder(connection: Connection, plan: Plan, clock: Clock, thorough: bool) -> Iterator[Trial]:
    """Yield the pages to time: small and large ones, near and deep, by each way there is."""
    bench = Bench(connection, plan)
    rows = bench.model.matching
    deep = int(min(rows * DEPTH_SHARE, MOST_DEPTH))
    wanted = [("keyset", deep, 10), ("offset", deep, 20), ("deferred-join", deep, 20),
              ("offset", 0, 500)]  # fmt: skip
    if thorough:
        wanted += [("keyset", 0, 100), ("keyset", deep, 500), ("offset", deep // 10, 100),
                   ("offset", int(min(rows * 0.3, 10 * MOST_DEPTH)), 20),
                   ("deferred-join", deep // 4, 500), ("whole", 0, 20)]  # fmt: skip
    for strategy, offset, size in wanted:
        trial = _within(bench, clock, strategy, offset, size)
        if trial is not None:
            yield trial
    for cap in (plan.outline.cap, None) if thorough else (None,):
        trial = bench.total(cap)
        if clock.ms(trial.estimate) < _MOST_MS:
            yield trial


def _within(bench: Bench, clock: Clock, strategy: str, offset: int, size: int) -> Trial | None:
    """Return a page no deeper than the time allows, None where even the first takes longer."""
    while clock.ms(bench.model.strategy(strategy, offset, size)) > _MOST_MS:
        if offset < 100:
            return None
        offset //= 3
    return bench.page(strategy, offset, size)
