"""Where servers leave the index: the depth that plans tell, beside the exact one.

    python bench/accuracy/switches.py URL ...

On the tables that `run.py` made. The exact depth is bisected row by row; a plan asks at most 16
EXPLAINs.
"""

from __future__ import annotations

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
sys.path.insert(0, str(Path(__file__).parent.parent))

from bounds import open_database
from scenarios import listings
from shapes import shapes

import vrelko
from vrelko.engines.paths import Reader
from vrelko.planning import access_paths
from vrelko.sql.parameters import LIMIT, OFFSET


def main(urls):
    for url in urls:
        engine = open_database(url)
        off, most = [], 0
        for shape in shapes():
            given = listings(shape.table)
            facts = vrelko.survey(engine, list(given.values()))
            for listing in given.values():
                asked = count_explains()
                plan = vrelko.plan(listing, facts, engine=engine)
                most = max(most, asked[0])
                if plan.judgement.switch is None:
                    continue
                exact = bisect(engine, listing, shape.name, int(plan.judgement.rows))
                off.append(abs(plan.judgement.switch / exact - 1))
        worst = max(off, default=0.0)
        print(
            f"{engine.dialect.name}: {len(off)} switches, at most {worst:.2%} off, "
            f"at most {most} EXPLAINs a bisection"
        )
        engine.dispose()


def count_explains():
    """Count the questions of each bisection; return a box with the most."""
    box = [0]
    plain = getattr(access_paths, "_plain", access_paths.find_turns)
    access_paths._plain = plain

    def counted(ask, begins, low, high):
        questions = [1]  # the first one was asked before

        def asking(depth):
            questions[0] += 1
            return ask(depth)

        yield from plain(asking, begins, low, high)
        box[0] = max(box[0], questions[0])

    access_paths.find_turns = counted
    return box


def bisect(engine, listing, table, rows):
    """Return the first offset plus size at which EXPLAIN tells another path."""
    size = listing.sizes.default
    with engine.connect() as connection:
        variant = listing.lent_variant(connection, None, {})

        def ask(offset):
            asked = {LIMIT: size + 1, OFFSET: offset}
            return Reader.of(connection, table).path(variant.offset(), asked).signature

        first, low, high = ask(0), 0, max(rows - size, 1)
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if ask(middle) == first else (low, middle)
    return high + size


if __name__ == "__main__":
    main(sys.argv[1:])
