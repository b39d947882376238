"""Profiles: the share of rows that pass a filter, place by place along an order.

Where a filter's rows stand together, a page reads many rows before the first that passes, or none;
the mean share over the table tells neither.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Sequence
from itertools import accumulate

LOOKED = 50
"""Rows looked at in each place."""

LEAST_PASSED = 20
"""Rows that must have passed in all the places looked at, for a profile to tell anything."""

_UNEVEN = 3.0  # times the variance that chance gives


def find_profile(passed: Sequence[int], looked: int) -> tuple[float, ...]:
    """Return the share that passes at each place; none where the places differ no more than chance.

    `passed` of `looked` rows at each of several places, evenly spread along the order. The variance
    between places is held against the binomial one.
    """
    total = sum(passed)
    # Few places, or few rows, tell chance from place no better than a coin does.
    if len(passed) < 8 or total < LEAST_PASSED or total >= len(passed) * looked:
        return ()
    mean = total / len(passed)
    share = mean / looked
    by_chance = looked * share * (1 - share)
    between = sum((one - mean) ** 2 for one in passed) / (len(passed) - 1)
    # Rows that pass evenly need no profile: the mean says as much, with less noise.
    if between <= _UNEVEN * max(by_chance, 1e-9):
        return ()
    return tuple(one / looked for one in passed)


def entries_apart(
    profile: Sequence[float], reached: float, matching: float, begin: float, end: float
) -> float:
    """Return how far apart the entries walked may be, as a factor, by what a profile leaves open.

    It was counted in a sample: the rows ahead of a place are known to two standard deviations of
    the count there (Poisson), and within a place rows may stand at either end. A page beside a step
    from many to few reads a few entries or thousands.
    """
    total = sum(profile)
    if not total or matching <= 0:
        return 1.0
    # How many rows of the listing each row that passed in the sample stands for.
    passed, each = 0.0, matching / (total * LOOKED)
    for share in profile:
        if passed * each >= begin:
            break
        passed += share * LOOKED
    # Two deviations of the count so far; at least half of what the densest place holds.
    apart = max(2 * each * math.sqrt(max(passed, 1.0)), each * LOOKED * max(profile) / 2)
    begins = [min(max(begin + by, 0.0), max(matching - 1, 0.0)) for by in (-apart, 0.0, apart)]
    told = [
        entries_between(profile, reached, matching, at, min(at + end - begin, matching))
        for at in (begins if begin > 0 else [0.0])
    ]
    ends = [min(max(end + by, 1.0), matching) for by in (-apart, apart)] if begin <= 0 else []
    told += [entries_between(profile, reached, matching, 0.0, at) for at in ends]
    return max(told) / max(min(told), 1.0)


def entries_between(
    profile: Sequence[float], reached: float, matching: float, begin: float, end: float
) -> float:
    """Return the entries walked from passing row `begin` to row `end`, of `matching` in all.

    Each place of the profile stands for an equal part of the `reached` entries; within it rows pass
    evenly, in the first and last part as densely as was seen there, at the very end. What ends with
    the last row that passes goes on to the last entry: a page that is not full looks for more.
    """
    total = sum(profile) or 1.0
    # Places are evenly spread over the entries, so each stands for the same number of them.
    part = reached / len(profile)
    rows = [one / total * matching for one in profile]
    ends = list(accumulate(rows))

    def place(row: float) -> float:
        if row <= 0:
            return 0.0
        if row >= matching:
            return reached
        i = min(bisect_left(ends, row), len(ends) - 1)
        before = ends[i] - rows[i]
        inside = min(max((row - before) / rows[i], 0.0), 1.0) if rows[i] > 0 else 1.0
        held = min(rows[i] / profile[i], part) if profile[i] > 0 else part
        # In the first and last place rows were looked at from the very end, as a page reads them.
        if i == 0:
            return inside * held
        if i == len(rows) - 1:
            return (i + 1) * part - (1 - inside) * held
        return (i + inside) * part

    return max(place(end) - (place(begin) if begin > 0 else 0.0), end - begin, 1.0)
