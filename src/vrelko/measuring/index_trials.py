"""Trying indexes before they are made: on a copy (SQLite), or as hypothetical ones (PostgreSQL)."""

from __future__ import annotations

from dataclasses import replace

from sqlalchemy import Connection, Engine, text

from vrelko.core.cost.model import make_model
from vrelko.core.cost.rates import Clock
from vrelko.core.index_advice import Advice
from vrelko.errors import PageError
from vrelko.measuring.table_copies import copy_of_file
from vrelko.measuring.trials import Bench, time_trials
from vrelko.planning.access_paths import route_use
from vrelko.planning.plan import Plan, plan_listings
from vrelko.surveying.survey import survey

_OVERSTATED = 1.5  # times the size an index has when built, that HypoPG says it would
_ROUNDS = 5
_NO_HYPOPG = "not tried: the extension hypopg is not installed in this database"
_CANNOT = "not tried: MariaDB cannot try an index before it is made"


def on_a_copy(engine: Engine, given: Plan) -> tuple[Advice, ...]:
    """Return advice with its indexes built on a copy of an SQLite file, and their pages timed."""
    with copy_of_file(engine) as copy:
        # All before any index is built: one index may serve the order of another.
        before = {a.index.name: _page_ms(copy, given, a) for a in given.indexes}
        tried = []
        for advice in given.indexes:
            # How much the file grows is what the index really takes.
            size = _bytes(copy)
            with copy.begin() as connection:
                connection.execute(text(advice.sql))
            grown = _bytes(copy) - size
            wanted = given.given
            (fresh,) = plan_listings(
                [given.served],
                survey(copy, given.served),
                wanted.readers,
                wanted.writers,
                wanted.needs,
                given.params,
                engine=copy,
            )
            after = _page_ms(copy, fresh, advice)
            tried.append(
                replace(
                    advice,
                    before_ms=before[advice.index.name],
                    after_ms=after,
                    bytes=float(grown),
                    judged="built on a copy",
                )
            )
    return tuple(tried)


def _page_ms(engine: Engine, given: Plan, advice: Advice) -> float:
    """Return the milliseconds of a page in the order that the advice serves."""
    use = next((u for u in given.uses if str(u.order) == advice.order), given.uses[0])
    with engine.connect() as connection:
        bench = Bench(connection, given, use)
        # The middle: first pages are quick without any index too.
        offset, size = int(bench.model.matching / 2), given.judgement.size
        try:
            trial = bench.page("keyset", offset, size)
        except PageError:  # fewer rows than half of those estimated
            trial = bench.page("keyset", 0, size)
        ((_, ms),) = time_trials([trial], _ROUNDS)
    return ms


def _bytes(engine: Engine) -> int:
    with engine.connect() as connection:
        pages = connection.execute(text("PRAGMA page_count")).scalar() or 0
        return int(pages) * int(connection.execute(text("PRAGMA page_size")).scalar() or 0)


def _has_hypopg(engine: Engine) -> bool:
    with engine.connect() as connection:
        found = connection.execute(text("SELECT 1 FROM pg_extension WHERE extname = 'hypopg'"))
        return found.scalar() is not None


def not_at_all(engine: Engine, given: Plan) -> tuple[Advice, ...]:
    """Return advice that says of each index that it was not tried."""
    return _untried(given, _CANNOT)


def _untried(given: Plan, why: str) -> tuple[Advice, ...]:
    return tuple(replace(one, judged=f"{one.judged}; {why}") for one in given.indexes)


def hypothetically(engine: Engine, given: Plan) -> tuple[Advice, ...]:
    """Return advice as PostgreSQL judges its indexes, which are imagined and never built."""
    if not _has_hypopg(engine):
        return _untried(given, _NO_HYPOPG)
    with engine.connect() as connection:
        return tuple(_imagine(connection, given, advice) for advice in given.indexes)


def _imagine(connection: Connection, given: Plan, advice: Advice) -> Advice:
    """Return advice as the server judges it with the index imagined, seen by this session alone."""
    # Imagined in this session alone: nothing is built, and nobody else sees it.
    made = connection.execute(
        text("SELECT indexrelid, indexname FROM hypopg_create_index(:sql)"), {"sql": advice.sql}
    ).one()
    try:
        size = connection.execute(
            text("SELECT hypopg_relation_size(:oid)"), {"oid": made.indexrelid}
        ).scalar()
        use = next((u for u in given.uses if str(u.order) == advice.order), given.uses[0])
        table = given.facts.table(advice.table)
        # HypoPG names it by itself, and EXPLAIN will say that name.
        imagined = replace(advice.index, name=str(made.indexname), partial=False)
        richer = replace(table, indexes=(*table.indexes, imagined))
        facts = replace(
            given.facts,
            tables=tuple(richer if t.name == table.name else t for t in given.facts.tables),
        )
        routed = route_use(connection, given.served, use, facts)
        routes = routed.routes
        taken = routes is not None and routes.page.index == imagined
        nullable = any(term.nullable for term in use.order.terms)
        # Statements behind a key place NULLs as the index does once it is there. The catalog has no
        # imagined index, so until then EXPLAIN tells of a sort.
        if routes is not None and taken and nullable and routes.seek.kind != "ordered":
            routes = replace(routes, seek=routes.page, seek_deep=())
        model = make_model(use.outline, use.order, richer, facts.server, routes)
        after = model.keyset(given.judgement.size + 1)
    finally:
        connection.execute(text("SELECT hypopg_reset()"))
    judged = "hypothetical index, which the server takes"
    if not taken:
        judged = "hypothetical index, which the server does not take"
    clock = Clock(given.judgement.rates, given.facts.server)
    return replace(
        advice,
        after=after,
        after_ms=clock.ms(after),
        judged=judged,
        bytes=float(size or advice.bytes) / _OVERSTATED,
    )
