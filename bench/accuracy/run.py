"""How true the estimates are: tables of twelve shapes, hundreds of pages that no calibration saw.

    python bench/accuracy/run.py [URL ...] [--scale 1.0] [--pages 12] [--json FILE]

Without a URL: SQLite in a temporary folder, and the local PostgreSQL and MariaDB, each in its
own database (`vrelko_accuracy`). Every page is read by every strategy, counted by the engine's own
counter, and timed six times in interleaved rounds; the two halves of the repeats give the machine's
own repeatability, beside which errors are shown.
"""

from __future__ import annotations

import argparse
import json
import random
import sys
import tempfile
from pathlib import Path
from time import perf_counter

sys.path.insert(0, str(Path(__file__).parent))
sys.path.insert(0, str(Path(__file__).parent.parent))

from bounds import SERVERS, open_database
from rivals import rival_cost
from scenarios import STRATEGIES, draw, listings
from shapes import make, shapes

import vrelko
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.rates import Clock, shipped_rates
from vrelko.measuring.engines import count_work
from vrelko.measuring.trials import Bench

MOST_MS = 8_000.0


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("urls", nargs="*")
    parser.add_argument("--scale", type=float, default=1.0)
    parser.add_argument("--pages", type=int, default=16)
    parser.add_argument("--learn", action="store_true", help="the tables rates were fitted on")
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--json", default="bench/accuracy/results.json")
    given = parser.parse_args()
    folder = tempfile.TemporaryDirectory(prefix="vrelko-accuracy-")
    servers = [url.replace("vrelko_bench", "vrelko_accuracy") for url in SERVERS]
    urls = given.urls or [f"sqlite:///{Path(folder.name) / 'accuracy.db'}", *servers]
    results = json.loads(Path(given.json).read_text()) if Path(given.json).exists() else {}
    for url in urls:
        engine = open_database(url)
        name = {"mysql": "mariadb"}.get(engine.dialect.name, engine.dialect.name)
        rows = []
        for shape in shapes(given.scale, tested=not given.learn):
            began = perf_counter()
            table = make(engine, shape)
            made = perf_counter() - began
            rows += measure_shape(engine, shape, table, given.pages, given.seed)
            print(
                f"{name} {shape.name}: made in {made:.0f} s, measured in "
                f"{perf_counter() - began - made:.0f} s",
                flush=True,
            )
            results[name] = rows
            Path(given.json).write_text(json.dumps(results))
        engine.dispose()


def measure_shape(engine, shape, table, pages, seed):
    """Return a record for each page read by each strategy, and for the ladder's pages."""
    given = listings(table)
    facts = vrelko.survey(engine, list(given.values()))
    prior = Clock(shipped_rates(facts.server.engine), facts.server)
    rng = random.Random(f"{seed} {shape.name}")
    found = []
    with engine.connect() as connection:
        for scenario in draw(rng, pages, list(given)):
            sized = sized_listing(given[scenario.listing], scenario.size)
            plan = vrelko.plan(sized, facts, engine=engine)
            rates = plan.judgement.rates
            clock = Clock(rates, facts.server)
            believed = {check.strategy: check.believed for check in plan.uses[0].checks}
            bench = Bench(connection, plan)
            offset = int(scenario.share * max(bench.model.matching - scenario.size, 0))
            trials = []
            for strategy in STRATEGIES:
                trial = bench.page(strategy, offset, scenario.size)
                if clock.ms(trial.estimate) < MOST_MS:
                    trials.append(trial)
            times = [[] for _ in trials]
            for trial in trials:
                trial.run()
            for _ in range(6):
                for i, trial in enumerate(trials):
                    began = perf_counter()
                    trial.run()
                    times[i].append((perf_counter() - began) * 1e3)
            for trial, taken in zip(trials, times, strict=True):
                counted = count_work(connection, trial)
                time = clock.time(trial.estimate, trial.passing, trial.path)
                found.append(
                    {
                        "shape": shape.name,
                        "listing": scenario.listing,
                        "strategy": trial.strategy,
                        "offset": offset,
                        "size": scenario.size,
                        "path": trial.path,
                        "believed": believed.get(
                            "first"
                            if not offset and trial.strategy in ("keyset", "deferred-join")
                            else trial.strategy
                        ),
                        "spent": plan.spent_ms,
                        "switch": bench.model.routes.switch,
                        "expected": counted_as(rates.engine, trial.estimate),
                        "counted": counted,
                        "ms": min(taken),
                        "odd": min(taken[::2]),
                        "even": min(taken[1::2]),
                        "predicted": time.ms,
                        "low": time.low,
                        "high": time.high,
                        "prior": prior.ms(trial.estimate),
                        "rival": rival_cost(connection, trial, counted),
                        "missed": clock.misses(trial.estimate),
                        "work": {n: v for n, v in vars_of(trial.estimate).items() if v},
                    }
                )
    return found


def sized_listing(listing, size):
    """Return a listing whose default page has another size: it is planned for that size."""
    arguments = {**listing.arguments, "sizes": vrelko.Sizes(size, max=None)}
    return vrelko.Listing(listing.select, **arguments)


def vars_of(work):
    from dataclasses import asdict

    return asdict(work)


if __name__ == "__main__":
    main()
