"""Drift: what a reader suffers while rows are inserted and deleted between page requests.

Order from the head (rank 0 is served first), pages of L rows at times 0, d, 2d, … Repeats are
servings less distinct rows; misses are rows visible at every request of the walk, ahead of the
last row served, and never served. Formulas: docs/drift.md, where each is held against a simulator.
"""

from __future__ import annotations

import math
from collections.abc import Sequence, Set
from dataclasses import dataclass

from vrelko.core.workload import Landing, Writers
from vrelko.errors import PageError


@dataclass(frozen=True, slots=True)
class DriftExpectation:
    """Expected repeats, misses and unseen new rows of one walk by one strategy.

    `holds` is False where more rows land ahead in a dwell than a page has, beyond what the
    formulas cover. `clean` is the chance of a walk without repeats and misses; `by_page` has the
    repeats and misses expected of each page from the second on.
    """

    strategy: str
    pages: int
    repeats: float
    misses: float
    unseen: float
    holds: bool = True
    clean: float = 1.0
    by_page: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class Stream:
    """Changes a second on an order of `rows` rows; deletes hit every row alike."""

    rows: float
    inserts: float
    deletes: float
    lands: Landing
    moves: float = 0.0

    @classmethod
    def of(cls, rows: float, writers: Writers) -> Stream:
        """Return the stream of a listing with `rows` rows."""
        return cls(rows, writers.inserts_a_minute / 60, writers.deletes_a_minute / 60,
                   writers.lands, writers.moves_a_minute / 60)  # fmt: skip

    def share_ahead(self, rank: float) -> float:
        """Return the share of inserts that land ahead of a rank."""
        if rank <= 0:
            return 0.0
        if self.lands.kind == "head":
            return 1.0
        if self.lands.kind == "tail":
            return 0.0
        if self.lands.kind == "uniform":
            return min(rank / max(self.rows, 1.0), 1.0)
        return -math.expm1(-self._age(rank) / self.lands.mean_s)

    def density(self, rank: float) -> float:
        """Return the share of inserts that land on one rank."""
        if self.lands.kind == "uniform":
            return 1 / max(self.rows, 1.0)
        if self.lands.kind != "late" or self.inserts == 0:
            return 0.0
        share = self.share_ahead(max(rank, 0.5))
        return (1 - share) / (self.lands.mean_s * self.inserts * max(share, 1e-12))

    def rank_of(self, share: float) -> float:
        """Return the rank ahead of which `share` of the inserts land: the inverse of the above."""
        if self.lands.kind == "head":
            return 0.0
        if self.lands.kind == "tail":
            return self.rows
        if self.lands.kind == "uniform":
            return share * self.rows
        return self._rank(-self.lands.mean_s * math.log1p(-min(share, 1 - 1e-12)))

    def _rank(self, age: float) -> float:
        """Rows younger than `age` seconds, at a steady rate of inserts that come late."""
        mean = self.lands.mean_s
        return self.inserts * (age + mean * math.expm1(-age / mean))

    def _age(self, rank: float) -> float:
        if self.inserts <= 0:
            return math.inf
        low, high = 0.0, self.lands.mean_s + rank / self.inserts + 1.0
        while self._rank(high) < rank:
            high *= 2
        return _bisect(lambda age: self._rank(age) - rank, low, high)


def expect_drift(
    strategy: str, stream: Stream, size: int, pages: int, dwell_s: float
) -> DriftExpectation:
    """Return what a walk of `pages` pages is expected to suffer.

    Keyset over keys that do not change: no repeat and no miss, exactly. Offset: the sums of
    docs/drift.md over the page boundaries. whole: one statement, nothing can drift.
    """
    pages = max(1, min(pages, math.ceil(stream.rows / size)))
    if strategy == "whole":
        return DriftExpectation(strategy, 1, 0.0, 0.0, 0.0)
    if strategy == "keyset":
        return DriftExpectation(strategy, pages, 0.0, 0.0, _unseen(stream, size, pages, dwell_s))
    repeats = misses = unseen = 0.0
    clean, by_page = 1.0, []
    hazard = stream.deletes / max(stream.rows, 1.0)
    holds = True
    for p in range(1, pages):
        t = (p - 1) * dwell_s
        rank = _boundary(stream, hazard, p * size, t)
        came = stream.inserts * dwell_s * stream.share_ahead(rank)
        went = p * size * -math.expm1(-hazard * dwell_s)
        forward, backward = expect_shift(came, went)
        density = stream.density(rank)
        live = math.exp(-hazard * t) + stream.inserts * t * density
        twice = forward * max(1 - stream.inserts * dwell_s * density / live, 0.0)
        missed = backward * math.exp(-hazard * (pages - 1) * dwell_s) / live
        by_page.append((twice, missed))
        clean *= chance_of_no_shift(came, went)
        repeats, misses = repeats + twice, misses + missed
        holds = holds and came < size
        unseen += came
    return DriftExpectation(strategy, pages, repeats, misses, unseen, holds, clean,
                            tuple(by_page))  # fmt: skip


def chance_of_no_shift(came: float, went: float) -> float:
    """Return P(X = Y) for X and Y Poisson of mean came and went: Skellam's at 0."""
    if came <= 0 or went <= 0:
        return math.exp(-max(came, went, 0.0))
    from scipy.special import ive

    both = 2 * math.sqrt(came * went)
    return float(ive(0, both) * math.exp(both - came - went))


def overlap_for(stream: Stream, size: int, pages: int, dwell_s: float, chance: float) -> int:
    """Return how many rows to ask for again, so that a walk misses any with at most a `chance`.

    The least k with sum over boundaries of P(D < -k) <= chance, D = rows that came ahead less those
    that went (Skellam's); rows seen before are taken out. Raises PageError for no chance at all.
    """
    if not 0 < chance < 1:
        raise PageError(f"a chance of {chance} is not between 0 and 1", "Give such as 0.01",
                        "workload-value")  # fmt: skip
    hazard = stream.deletes / max(stream.rows, 1.0)
    means = []
    for p in range(1, pages):
        rank = _boundary(stream, hazard, p * size, (p - 1) * dwell_s)
        came = stream.inserts * dwell_s * stream.share_ahead(rank)
        means.append((came, p * size * -math.expm1(-hazard * dwell_s)))

    def missing(k: int) -> float:
        return sum(_chance_behind(came, went, k) for came, went in means)

    low, high = -1, 0
    while missing(high) > chance and high < pages * size:
        low, high = high, 2 * high + 1
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if missing(middle) <= chance else (middle, high)
    return high


def _chance_behind(came: float, went: float, k: int) -> float:
    """Return P(Y - X > k) for X and Y Poisson of mean came and went."""
    import numpy as np
    from scipy.special import gammaln, pdtrc

    if went <= 0:
        return 0.0
    if came <= 0:
        return float(pdtrc(k, went))
    spread = 10 * math.sqrt(came) + 20
    i = np.arange(max(math.floor(came - spread), 0), math.ceil(came + spread) + 1)
    weights = np.exp(i * math.log(came) - came - gammaln(i + 1))
    return float((weights * pdtrc(i + k, went)).sum())


def expect_shift(came: float, went: float) -> tuple[float, float]:
    """Return E[max(D, 0)] and E[max(-D, 0)] of D = X - Y, X and Y Poisson of mean came and went.

    D is Skellam's. The smaller mean sums E[(X - j)+] = a P(X >= j) - j P(X > j) over Y = j (no
    term cancels another, whatever the means), the larger follows from E[D] = came - went.
    """
    if came <= 0 or went <= 0:
        return max(came, 0.0), max(went, 0.0)
    if came > went:
        behind = _expect_excess(went, came)
        return behind + came - went, behind
    ahead = _expect_excess(came, went)
    return ahead, ahead + went - came


def _expect_excess(low: float, high: float) -> float:
    """Return E[max(X - Y, 0)] for X and Y Poisson of mean `low` and `high`."""
    import numpy as np
    from scipy.special import gammaln, pdtrc

    spread = 12 * math.sqrt(high) + 30
    j = np.arange(max(math.floor(high - spread), 0), math.ceil(high + spread) + 1)
    weights = np.exp(j * math.log(high) - high - gammaln(j + 1))
    beyond = pdtrc(j, low)  # P(X > j)
    at_least = np.where(j > 0, pdtrc(np.maximum(j - 1, 0), low), 1.0)
    return float((weights * (low * at_least - j * beyond)).sum())


def _unseen(stream: Stream, size: int, pages: int, dwell_s: float) -> float:
    """New rows that land ahead of a reader by key, who moves a page of live rows at a time."""
    hazard = stream.deletes / max(stream.rows, 1.0)
    rank = unseen = 0.0
    for p in range(1, pages):
        t = (p - 1) * dwell_s
        step = math.exp(-hazard * t) + stream.inserts * t * stream.density(rank + size / 2)
        rank += size / step
        unseen += stream.inserts * dwell_s * stream.share_ahead(rank)
    return unseen


def _boundary(stream: Stream, hazard: float, served: float, t: float) -> float:
    """Return the first rank r with r e^(-ht) + inserts t F(r) = served: where the boundary lies."""

    def beyond(rank: float) -> float:
        came = stream.inserts * t * stream.share_ahead(rank)
        return rank * math.exp(-hazard * t) + came - served

    high = served * math.exp(hazard * t) + 1.0
    return _bisect(beyond, 0.0, high) if beyond(0.0) < 0 else 0.0


def _bisect(f: object, low: float, high: float) -> float:
    assert callable(f)
    for _ in range(80):
        middle = (low + high) / 2
        if f(middle) < 0:
            low = middle
        else:
            high = middle
    return (low + high) / 2


def count_walk(
    served: Sequence[Sequence[object]],
    order: Sequence[object],
    alive: Set[object],
    deleted: Set[object],
    inserted: Set[object],
    ended: bool,
) -> tuple[int, int, int]:
    """Return repeats, misses and unseen rows of one walk, from what was served and what changed.

    `served`: the rows of each page; `order`: every row that was ever there, in order; `alive`: rows
    visible at the first request; `deleted` and `inserted` during the walk; `ended`: whether the
    walk ran into the end (a short page), so that it covers everything.
    """
    place = {row: i for i, row in enumerate(order)}
    flat = [row for page in served for row in page]
    seen = set(flat)
    cover = len(order) if ended else max((place[row] for row in seen), default=-1)
    covered = {row for row in order[: cover + 1] if row not in seen}
    misses = len(covered & (alive - deleted))
    unseen = len(covered & (inserted - deleted))
    return len(flat) - len(seen), misses, unseen
