"""drift: what walks of a plan suffer: expected, simulated, replayed, and beside real writers."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from typing import Any

from sqlalchemy import Engine

from vrelko.core.arithmetic import page_count
from vrelko.core.drift.costs import StrategyCost
from vrelko.core.drift.expectation import DriftExpectation, expect_drift
from vrelko.core.drift.number_errors import NumberError, expect_number_error
from vrelko.core.drift.recorded import Events
from vrelko.core.drift.sentences import no_changes, tell, tell_jumps, walks_per_day
from vrelko.core.drift.simulating import WALKS, Simulated, simulate, simulate_recorded
from vrelko.core.drift.walks import DRIFT_STRATEGIES, DriftStrategy
from vrelko.core.workload import Depth
from vrelko.errors import PageError
from vrelko.measuring.concurrent import Crowd, Crowded, run_crowd
from vrelko.measuring.replay import Replayed, Walks, replay
from vrelko.planning.conclusion import has_changes
from vrelko.planning.plan import Plan

SCHEMA = "vrelko.drift/4"

_RECORDED_WALKS = 200
_HOUR_S = 3_600.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """Drift of one listing's walks: expected by closed forms, simulated, replayed, crowded.

    `overlap` rows are asked for again by the strategy of that name: the least with which a walk
    misses any row with a chance of at most one in a hundred. `costs` has what each strategy takes.
    `sentences` say it in words; `walks_per_day` are those of all readers. `recorded`: the changes
    were given, not drawn, so there are no closed forms. `number_error`: how far numbers in the
    middle are off an hour after static anchors were counted, None where nobody jumps or changes
    were given.
    """

    listing: str
    pages: int
    dwell_s: float
    expected: tuple[DriftExpectation, ...]
    simulated: tuple[Simulated, ...]
    replayed: tuple[Replayed, ...]
    overlap: int
    sentences: tuple[str, ...]
    costs: tuple[StrategyCost, ...] = ()
    crowded: tuple[Crowded, ...] = ()
    recorded: bool = False
    walks_per_day: float = 0.0
    number_error: NumberError | None = None

    @property
    def shown(self) -> tuple[Simulated, ...]:
        """The strategies worth comparing: no overlap where no rows need to be fetched again."""
        return tuple(one for one in self.simulated if one.strategy != "overlap" or self.overlap)

    def as_dict(self) -> dict[str, Any]:
        """Return the result as plain data (schema `vrelko.drift/4`)."""
        return {"schema": SCHEMA, **asdict(self)}

    def to_json(self) -> str:
        """Return the result as JSON text."""
        return json.dumps(self.as_dict(), indent=2)


def drift(
    plan: Plan,
    engine: Engine | None = None,
    walks: int = 20,
    seed: int = 1,
    progress: Callable[[int], None] | None = None,
    copy: Engine | None = None,
    simulations: int = WALKS,
    *,
    recording: Events | None = None,
    concurrent_s: float = 0.0,
) -> Drift:
    """Return what walks over a planned listing suffer while its writers write.

    Without `engine` closed forms and `simulations` simulated walks alone; with one, `walks` walks
    are replayed too: on a temporary copy of that SQLite file, or on a table that is made for the
    time in the database of `copy`. `recording`: changes that happened, instead of those drawn from
    the writers' rates; they are simulated alone. `concurrent_s`: seconds that real readers walk the
    copy beside real writers. Raises PageError for walks that cannot be, DatabaseError when rows
    cannot be copied.
    """
    _check(plan)
    pages, dwell, size = plan.candidates[0].drift.pages, plan.given.readers.dwell_s, _size(plan)
    overlap = plan.overlap
    if recording is not None:
        courses = recording.courses(size, pages, dwell, _RECORDED_WALKS, overlap)
        simulated = simulate_recorded(courses)
    else:
        simulated = simulate(plan.stream, size, pages, dwell, simulations, seed, overlap)
    replayed: tuple[Replayed, ...] = ()
    crowded: tuple[Crowded, ...] = ()
    # What was recorded happened to other rows than those that are there now.
    if engine is not None and recording is None and walks:
        replayed = replay(engine, plan, Walks(walks, seed), progress, copy)
    if engine is not None and concurrent_s > 0:
        crowded = run_crowd(engine, plan, Crowd(concurrent_s, seed=seed), copy)
    changing = recording is None and has_changes(plan)
    error = _number_error(plan) if changing else None
    if recording is None and not changing:
        sentences: tuple[str, ...] = (no_changes(plan.listing),)
    else:
        sentences = tuple(tell(plan.listing, pages, dwell, simulated, plan.given.readers, overlap))
    return Drift(
        listing=plan.listing,
        pages=pages,
        dwell_s=dwell,
        expected=() if recording is not None else _expected(plan),
        simulated=simulated,
        replayed=replayed,
        overlap=overlap,
        sentences=sentences if error is None else (*sentences, tell_jumps(error, _HOUR_S)),
        costs=plan.strategy_costs,
        crowded=crowded,
        recorded=recording is not None,
        walks_per_day=walks_per_day(plan.given.readers),
        number_error=error,
    )


def _expected(plan: Plan) -> tuple[DriftExpectation, ...]:
    """Return what the closed forms say, by strategy."""
    pages, dwell = plan.candidates[0].drift.pages, plan.given.readers.dwell_s
    return tuple(
        expect_drift(strategy, plan.stream, _size(plan), pages, dwell, plan.overlap)
        for strategy in DRIFT_STRATEGIES
    )


def _number_error(plan: Plan) -> NumberError | None:
    """Return how far numbers in the middle are off an hour after static anchors were counted."""
    wanted = plan.outline.jumps == "anchors" or plan.given.readers.depth.jumps > 0
    if not (wanted and plan.outline.may_have_anchors):
        return None
    return expect_number_error(plan.stream, plan.stream.rows / 2, _HOUR_S)


def clean_by_rate(
    plan: Plan,
    factors: tuple[float, ...],
    walks: int = 100,
    seed: int = 1,
    strategies: tuple[DriftStrategy, ...] = ("offset", "ceiling", "overlap", "keyset"),
) -> dict[DriftStrategy, list[float]]:
    """Return each strategy's share of clean walks, with all write rates multiplied by factors."""
    pages, dwell = plan.candidates[0].drift.pages, plan.given.readers.dwell_s
    # The overlap stays that of the usual rate: what it is worth where changes come faster is the
    # question.
    usual, overlap = plan.stream, plan.overlap
    found: dict[DriftStrategy, list[float]] = {}
    for factor in factors:
        stream = replace(
            usual,
            inserts=usual.inserts * factor,
            deletes=usual.deletes * factor,
            moves=usual.moves * factor,
        )
        for one in simulate(stream, _size(plan), pages, dwell, walks, seed, overlap, strategies):
            found.setdefault(one.strategy, []).append(one.clean)
    return found


def _size(plan: Plan) -> int:
    return plan.judgement.size


def _check(plan: Plan) -> None:
    """Raise PageError for walks on which nothing can be said."""
    readers = plan.given.readers
    if readers.dwell_s <= 0:
        raise PageError(
            "a dwell of 0 s leaves no time in which rows could change",
            f"Give dwell_s, the seconds on a page, under listing.{plan.listing}.readers",
            "drift-dwell",
        )
    pages = max(page_count(round(plan.judgement.rows), _size(plan)), 1)
    # A depth that nobody stated is a guess, and shortened instead of refused.
    asked = readers.depth != Depth() and plan.outline.kind != "choices"
    if asked and readers.depth.mean > pages:
        raise PageError(
            f"walks of {readers.depth.mean:g} pages go past the {pages:,} pages that "
            f"{plan.listing} has",
            f"Give a depth of at most {pages:,} under listing.{plan.listing}.readers",
            "drift-depth",
        )
