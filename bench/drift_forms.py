"""Closed forms against simulation, over a grid of settings: how many standard errors apart.

    python bench/drift_forms.py [WALKS]

Settings in which a dwell brings more rows ahead than a page holds are outside of what the forms
cover; the forms say so themselves, and these are left out.
"""

from __future__ import annotations

import itertools
import sys

from vrelko import Landing
from vrelko.core.drift.expectation import expect_drift
from vrelko.core.drift.simulating import simulate
from vrelko.core.drift.stream import Stream

LANDS = (Landing("head"), Landing("uniform"), Landing("late", 300), Landing("tail"))
GRID = list(
    itertools.product(
        LANDS,
        ((0.05, 0.0), (0.3, 0.1), (0.1, 0.6), (0.0, 0.4)),  # inserts and deletes a second
        (5.0, 20.0),  # dwell
        ((10, 8), (25, 20)),  # size, pages
        ((2_000, 0.0), (2_000, 0.2), (20_000, 0.0)),  # rows, and moves a second
    )
)


def main():
    walks = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    worst, outside, compared, beyond = [], 0, 0, 0
    for seed, (lands, (inserts, deletes), dwell, (size, pages), (rows, moves)) in enumerate(GRID):
        stream = Stream(rows, inserts, deletes, lands, moves)
        strategies = ("offset", "ceiling", "overlap", "keyset")
        found = {
            s.strategy: s for s in simulate(stream, size, pages, dwell, walks, seed, 1, strategies)
        }
        for strategy in strategies:
            expected = expect_drift(strategy, stream, size, pages, dwell, 1)
            if not expected.holds:
                outside += 1
                continue
            for name in ("repeats", "misses", "dodges"):
                mean, error = found[strategy].means[name], found[strategy].errors[name]
                form = getattr(expected, name)
                compared += 1
                if mean == form == 0:
                    off = 0.0
                else:
                    off = (mean - form) / max(error, (form / walks) ** 0.5, 1e-9)
                beyond += abs(off) > 3
                worst.append(
                    (
                        abs(off),
                        off,
                        strategy,
                        name,
                        lands.kind,
                        inserts,
                        deletes,
                        dwell,
                        size,
                        pages,
                        rows,
                        moves,
                        mean,
                        form,
                    )
                )
    worst.sort(reverse=True)
    print(
        f"{len(GRID)} settings, {compared} comparisons of {walks} walks: most |z| "
        f"{worst[0][0]:.1f}, beyond 3: {beyond}; outside of the forms: {outside}"
    )
    for one in worst[:8]:
        print(
            f"  z {one[1]:+.1f} {' '.join(map(str, one[2:12]))}: {one[12]:.3f} simulated, "
            f"{one[13]:.3f} by form"
        )


if __name__ == "__main__":
    main()
