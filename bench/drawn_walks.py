"""Walks over drawn tables by the hundred thousand, each held equal to one plain statement.

    python bench/drawn_walks.py [--walks 100000] [--seed 1] [--processes 2] [--each 10]

Draws tables, views, sessions, places and listings as tests/drawn.py says, on the three engines, and
prints a Markdown table of what came: walks, refused ones, and faults, each with its seed and number
(`python tests/drawn.py ENGINE 1 LISTINGS SEED NUMBER` draws it again, with fewer walks). Each
listing is walked `--each` times in each of its places.
"""

from __future__ import annotations

import argparse
import os
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

CHUNK = 25
"""Tables that a process draws on one database before it makes another."""


def run(engine: str, seed: int, listings: int, each: int, chunk: int) -> Counter[str]:
    """Draw a chunk of tables in a database of this process's own."""
    os.environ["PYTEST_XDIST_WORKER"] = f"bench{os.getpid()}"
    from drawn import run_tables

    numbers = range(chunk * CHUNK, (chunk + 1) * CHUNK)
    return run_tables(engine, str(seed), numbers, listings, each)


def main() -> None:
    """Run until each engine has its walks; print a row for each."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--walks", type=int, default=100_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--listings", type=int, default=4)
    parser.add_argument("--each", type=int, default=10)
    parser.add_argument("--engines", default="sqlite,postgresql,mariadb")
    given = parser.parse_args()
    from drawn import walks_in

    print("| engine | tables | walks | refused | unreadable by the model | faults | seconds |")
    print("|---|---:|---:|---:|---:|---:|---:|")
    for engine in given.engines.split(","):
        began, counts, chunks = time.monotonic(), Counter[str](), 0
        with ProcessPoolExecutor(given.processes) as pool:
            while walks_in(counts) < given.walks:
                some = range(chunks, chunks + 2 * given.processes)
                for part in pool.map(
                    partial(run, engine, given.seed, given.listings, given.each), some
                ):
                    counts += part
                chunks = some.stop
        walks = walks_in(counts)
        share = counts["refused"] / max(walks + counts["refused"], 1)
        row = f"| {engine} | {chunks * CHUNK:,} | {walks:,} | {share:.1%} "
        row += f"| {counts['unreadable']:,} | {counts['faults']} "
        print(f"{row}| {time.monotonic() - began:,.0f} |", flush=True)
        reasons = {name: n for name, n in counts.items() if name.startswith(("refused ", "places"))}
        print(engine, reasons, file=sys.stderr)


if __name__ == "__main__":
    main()
