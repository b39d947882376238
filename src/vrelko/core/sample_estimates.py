"""What a sample of rows tells of a whole column or index."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from statistics import median
from typing import Any

PREFIX = 64
"""Characters of a text or bytes of a blob that samples hold; longer values are cut."""

_MOST_COMMON = 100  # values listed by themselves
_FEWEST = 30  # values that a correlation is told by
_BOUNDS = 20  # equal shares that a column's values are parted into


def expect_distinct(values: Sequence[Any], rows: float) -> float | None:
    """Return the number of distinct values in a table of `rows` rows, from a random sample.

    n d / (n - f1 + f1 n / N) with d distinct and f1 single values among n sampled: the estimator
    Duj1 of Haas and Stokes (1998), NULLs left out.
    """
    full = [value for value in values if value is not None]
    if not full:
        return None
    counts = Counter(full)
    n, d = len(full), len(counts)
    single = sum(1 for count in counts.values() if count == 1)
    # Rows whose value is NULL are no part of what is estimated.
    total = max(rows * n / len(values), n)
    return min(n * d / (n - single + single * n / total), total)


def common_values(values: Sequence[Any]) -> list[tuple[str, float]]:
    """Return values that stand out of a sample, largest first.

    These have ten rows of it, and more than a mean value has by chance (four standard deviations
    of a Poisson count). All values, where they are few and have ten rows on average: what ranges
    keep is summed up of them then.
    """
    counts = Counter(value for value in values if value is not None and not is_long(value))
    mean = sum(counts.values()) / max(len(counts), 1)
    few = len(counts) <= _MOST_COMMON and mean >= 10
    # A value seen twice in a sample may be rare; one that stands out by four deviations is not.
    least = 1 if few else max(10.0, mean + 4 * math.sqrt(mean))
    return [
        (str(value), count / len(values))
        for value, count in counts.most_common(_MOST_COMMON)
        if count >= least
    ]


def share_bounds(values: Sequence[Any], common: Sequence[tuple[str, float]]) -> tuple[str, ...]:
    """Return values, as text, that part the others of a sample into equal shares."""
    # Common values would take several of the bounds, and are told by themselves already.
    often = {value for value, _ in common}
    full = [v for v in values if v is not None and str(v) not in often and not is_long(v)]
    try:
        full.sort()
    except TypeError:
        return ()
    if len(full) < 2 * _BOUNDS:
        return ()
    return tuple(str(full[round(i * (len(full) - 1) / _BOUNDS)]) for i in range(_BOUNDS + 1))


def correlate(places: Sequence[float], values: Sequence[Any]) -> float | None:
    """Return the rank correlation (Spearman 1904) of values with their rows' places, -1 to 1.

    None for fewer than 30 values, for values that do not compare, and where all are alike.
    """
    pairs = [
        (place, value) for place, value in zip(places, values, strict=True) if value is not None
    ]
    if len(pairs) < _FEWEST:
        return None
    try:
        x, y = (_ranks([pair[i] for pair in pairs]) for i in (0, 1))
    except TypeError:
        return None
    mean = (len(pairs) - 1) / 2
    across = sum((a - mean) * (b - mean) for a, b in zip(x, y, strict=True))
    spread = sum((a - mean) ** 2 for a in x) * sum((b - mean) ** 2 for b in y)
    return round(across / math.sqrt(spread), 4) if spread else None


def _ranks(values: Sequence[Any]) -> list[float]:
    """Return each value's rank from 0, the mean one for values that are alike."""
    order = sorted(range(len(values)), key=values.__getitem__)
    ranks = [0.0] * len(values)
    start = 0
    for end in range(1, len(order) + 1):
        if end == len(order) or values[order[end]] != values[order[start]]:
            for i in order[start:end]:
                ranks[i] = (start + end - 1) / 2
            start = end
    return ranks


def is_long(value: Any) -> bool:
    """Tell whether a sampled value may have been cut."""
    return isinstance(value, (str, bytes)) and len(value) >= PREFIX


@dataclass(frozen=True, slots=True)
class Neighbours:
    """How the rows of index entries side by side lie in the table; shares from 0 to 1."""

    switches: float
    far: float
    consecutive: float


def judge_neighbours(windows: Sequence[Sequence[int]], blocks: float) -> Neighbours | None:
    """Return how neighbouring entries lie, from windows of their rows' places; None without any.

    Places are block numbers, or row ids where rows lie by these. An entry is far when it lies more
    than max(32, 2 % of the blocks) from its window's median, less what chance puts near.
    """
    pairs = [(a, b) for window in windows for a, b in pairwise(window)]
    if not pairs:
        return None
    # Within so few blocks a server that reads ahead has them at hand.
    tolerance = max(32.0, 0.02 * blocks)
    far = sum(
        abs(place - median(window)) > tolerance for window in windows for place in window
    ) / sum(map(len, windows))
    chance = 2 * tolerance / max(blocks, 1.0)
    return Neighbours(
        sum(a != b for a, b in pairs) / len(pairs),
        # Where the tolerance covers half of the table, near and far cannot be told apart.
        min(far / (1 - chance), 1.0) if chance < 0.5 else 0.0,
        sum(b - a == 1 for a, b in pairs) / len(pairs),
    )
