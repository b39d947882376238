"""Drift: what a reader suffers while rows are inserted and deleted between page requests.

Order from the head (rank 0 is served first), pages of L rows at times 0, d, 2d, … Repeats are
servings less distinct rows; misses are rows visible at every request of the walk, ahead of the
last row served, and never served. Formulas: docs/drift.md, where each is held against a simulator.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

from vrelko.core.drift.shift_chances import (
    chance_behind,
    chance_of_no_shift,
    expect_behind,
    expect_shift,
)
from vrelko.core.drift.stream import Stream
from vrelko.errors import PageError


@dataclass(frozen=True, slots=True)
class DriftExpectation:
    """Expected repeats, misses and unseen new rows of one walk by one strategy.

    `holds` is False where more rows may land ahead in a dwell than a page has (two standard
    deviations above their mean), beyond what the formulas cover. `clean` is the chance of a walk
    without repeats and misses; `by_page` has the repeats and misses expected of each page from the
    second on; `dodges` the rows that slip behind the reader; `gone` and `stale` those that a frozen
    view shows though they are deleted, or have moved.
    """

    strategy: str
    pages: int
    repeats: float
    misses: float
    unseen: float
    holds: bool = True
    clean: float = 1.0
    by_page: tuple[tuple[float, float], ...] = ()
    dodges: float = 0.0
    gone: float = 0.0
    stale: float = 0.0


EXPECTED_FOR = (
    "offset", "ceiling", "overlap", "keyset", "frozen-ids", "frozen-view", "whole",
)  # fmt: skip
"""What drift is computed for: strategies, and the ways to steady pages by offset."""


@lru_cache(maxsize=1_000)
def expect_drift(
    strategy: str, stream: Stream, size: int, pages: int, dwell_s: float, overlap: int = 0
) -> DriftExpectation:
    """Return what a walk of `pages` pages is expected to suffer, by a strategy or a way of paging.

    Keyset over keys that do not change: no repeat and no miss, exactly; so for what was
    frozen. Offset, with a ceiling or asking again for `overlap` rows: the sums of docs/drift.md
    over the page boundaries. whole: one statement, nothing can drift.
    """
    # A walk ends with the listing, whatever depth its readers are said to reach.
    pages = max(1, min(pages, math.ceil(stream.rows / size)))
    if strategy not in EXPECTED_FOR:
        raise KeyError(strategy)
    # One statement is one moment: nothing changes between its rows.
    if strategy == "whole":
        return DriftExpectation(strategy, 1, 0.0, 0.0, 0.0)
    if strategy.startswith("frozen"):
        return _expect_frozen(strategy, stream, size, pages, dwell_s)
    if strategy == "keyset":
        return _expect_by_key(stream, size, pages, dwell_s)
    again = overlap if strategy == "overlap" else 0
    repeats = misses = unseen = 0.0
    clean, by_page, holds = 1.0, [], True
    # Rows that land above the first row of the walk are under no page of it.
    top = stream.share_ahead(1.0) if strategy == "ceiling" else 0.0
    passed = _boundaries(stream, size, pages, dwell_s, top)
    end = _boundary(stream, pages * size, (pages - 1) * dwell_s, top)
    moved, dodges = _expect_moved(stream, [*(one.rank for one in passed), end], dwell_s)
    for one in passed:
        forward, backward = expect_shift(one.came, one.went)
        # Rows pushed over the boundary come again, but for those that are new there.
        twice = forward * max(1 - one.fresh / one.live, 0.0)
        if strategy == "overlap":
            # What was seen is left out; only rows that slip further than the overlap are lost.
            twice, backward = 0.0, expect_behind(one.came, one.went, again)
            clean *= 1 - chance_behind(one.came, one.went, again)
        else:
            clean *= chance_of_no_shift(one.came, one.went)
        # A row that is deleted before the walk ends is no miss: it was not there all along.
        missed = backward * one.lasting / one.live
        by_page.append((twice, missed))
        repeats, misses, unseen = repeats + twice, misses + missed, unseen + one.new
        # More than a page of arrivals in a dwell: the next page lies ahead of the one just read.
        holds = holds and one.came + 2 * math.sqrt(one.came) < size
    if strategy != "overlap":
        repeats += moved
    return DriftExpectation(
        strategy=strategy,
        pages=pages,
        repeats=repeats,
        misses=misses,
        unseen=unseen,
        holds=holds,
        clean=clean,
        by_page=tuple(by_page),
        dodges=dodges,
    )


def _expect_by_key(stream: Stream, size: int, pages: int, dwell_s: float) -> DriftExpectation:
    """Return what a walk by key suffers: a row is met again, or dodges, where its key moves."""
    ranks = _ranks(stream, size, pages, dwell_s)
    moved, dodges = _expect_moved(stream, ranks, dwell_s)
    # What lands ahead of a reader is on no page that is still to come.
    unseen = sum(stream.inserts * dwell_s * stream.share_ahead(rank) for rank in ranks[:-1])
    # Moves are independent and rare, so the number of repeats is Poisson: none with exp(-mean).
    return DriftExpectation(
        "keyset", pages, moved, 0.0, unseen, clean=math.exp(-moved), dodges=dodges
    )


def _expect_frozen(
    strategy: str, stream: Stream, size: int, pages: int, dwell_s: float
) -> DriftExpectation:
    """Everything new is unseen; a view shows L (1 - e^(-ht)) deleted rows of page p, t = (p - 1) d.

    Of the others it shows L e^(-ht) (1 - e^(-ut)) that have moved; a list of ids shows neither.
    """
    new = stream.inserts * (pages - 1) * dwell_s * stream.share_ahead(pages * size)
    gone = stale = 0.0
    if strategy == "frozen-view":
        rows = max(stream.rows, 1.0)
        for p in range(pages):
            still = math.exp(-stream.deletes / rows * p * dwell_s)
            gone += size * (1 - still)
            stale += size * still * -math.expm1(-stream.moves / rows * p * dwell_s)
    return DriftExpectation(strategy, pages, 0.0, 0.0, new, gone=gone, stale=stale)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Boundary:
    """The place between two pages: the rows that come ahead of it in a dwell, and that go.

    `rank` it had at the start; `new` rows are inserted ahead of it, above a ceiling too. Of rows
    there, by the rank that they had at the start: `live` at the dwell's begin, `fresh` ones
    that came in it, `lasting` from the start to the walk's end.
    """

    rank: float
    came: float
    went: float
    new: float
    live: float
    fresh: float
    lasting: float


@lru_cache(maxsize=1_000)
def _boundaries(
    stream: Stream, size: int, pages: int, dwell_s: float, top: float = 0.0
) -> tuple[_Boundary, ...]:
    """Return what passes each boundary of a walk by row offset.

    `top`: the share of what lands ahead of a ceiling, and so shifts nothing.
    """
    found = []
    rows = max(stream.rows, 1.0)
    hazard, moving = stream.deletes / rows, stream.moves / rows
    lands = stream.inserts + stream.moves
    # A row leaves its place when it is deleted or when its key moves.
    loss = hazard + moving
    for p in range(1, pages):
        t = (p - 1) * dwell_s
        rank = _boundary(stream, p * size, t, top)
        # Above a ceiling nothing is served, so what lands there shifts no page.
        ahead, lasts = max(stream.share_ahead(rank) - top, 0.0), math.exp(-loss * t)
        # Of the rows ahead of the boundary, those that were there when the walk began.
        old = max(p * size - stream.inserts * t * ahead, 0.0)
        # Moved rows come from behind the boundary as well: they shift it like new ones.
        behind = max(rows * math.exp(-hazard * t) - old, 0.0)
        came = stream.inserts * dwell_s * ahead + moving * dwell_s * behind * ahead
        went = old * (-math.expm1(-hazard * dwell_s) + moving * dwell_s * (1 - ahead))
        density = stream.density(rank)
        found.append(
            _Boundary(
                rank=rank,
                came=came,
                went=went,
                new=stream.inserts * dwell_s * stream.share_ahead(rank),
                live=lasts + lands * t * density,
                fresh=lands * dwell_s * density,
                lasting=math.exp(-loss * (pages - 1) * dwell_s),
            )
        )
    return tuple(found)


def _expect_moved(stream: Stream, ranks: Sequence[float], dwell_s: float) -> tuple[float, float]:
    """Return rows seen again because their keys moved back ahead of a reader, and rows that dodged.

    `ranks` of the boundaries and of the walk's end. First order: of the rows that a reader passed,
    those moved to what is still to come of the walk; of those to come, those moved elsewhere.
    """
    if stream.moves <= 0:
        return 0.0, 0.0
    rows, last = max(stream.rows, 1.0), min(ranks[-1], stream.rows)
    hazard = stream.deletes / rows
    # Rows behind the walk's end are never read, so a move that ends there is no repeat.
    whole, pages = stream.share_ahead(last), len(ranks)
    again = dodges = 0.0
    for p, rank in enumerate(ranks[:-1], 1):
        share, passed = stream.share_ahead(rank), min(rank, last)
        moved = -math.expm1(-stream.moves / rows * dwell_s)
        unmoved = math.exp(-stream.moves / rows * (p - 1) * dwell_s)
        # It moves in this dwell for the first time, and is still there to be seen.
        moves = moved * unmoved * math.exp(-hazard * p * dwell_s)
        stays = math.exp(-hazard * (pages - 1 - p) * dwell_s)
        again += moves * passed * max(whole - share, 0.0)
        dodges += moves * (last - passed) * (1 - max(whole - share, 0.0)) * stays
    return again, dodges


@lru_cache(maxsize=1_000)
def overlap_for(stream: Stream, size: int, pages: int, dwell_s: float, chance: float) -> int:
    """Return how many rows to ask for again, so that a walk misses any with at most a `chance`.

    The least k with sum over boundaries of P(D < -k) <= chance, D = rows that came ahead less those
    that went (Skellam's); rows seen before are taken out. Raises PageError for no chance at all.
    """
    if not 0 < chance < 1:
        raise PageError(
            f"a chance of {chance} is not between 0 and 1", "Give such as 0.01", "workload-value"
        )
    means = [(one.came, one.went) for one in _boundaries(stream, size, pages, dwell_s)]

    def missing(k: int) -> float:
        return sum(chance_behind(came, went, k) for came, went in means)

    # Doubling finds an upper bound in few steps, halving the least one below it.
    low, high = -1, 0
    while missing(high) > chance and high < pages * size:
        low, high = high, 2 * high + 1
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if missing(middle) <= chance else (middle, high)
    return high


def _ranks(stream: Stream, size: int, pages: int, dwell_s: float) -> list[float]:
    """Return where a reader by key is after each page: a page of live rows at a time."""
    loss = (stream.deletes + stream.moves) / max(stream.rows, 1.0)
    ranks = [0.0]
    for p in range(1, pages + 1):
        t = (p - 1) * dwell_s
        lands = (stream.inserts + stream.moves) * t
        # Rows alive on each original rank: those that lasted, and those that landed since.
        live = math.exp(-loss * t) + lands * stream.density(ranks[-1] + size / 2)
        ranks.append(ranks[-1] + size / live)
    return ranks[1:]


def _boundary(stream: Stream, served: float, t: float, top: float = 0.0) -> float:
    """Return the first rank behind which `served` rows were at a time: where the boundary lies.

    The first r with r e^(-ht) + (rate) t (F(r) - F(top)) = served.
    """
    loss = (stream.deletes + stream.moves) / max(stream.rows, 1.0)
    lands = stream.inserts + stream.moves

    def beyond(rank: float) -> float:
        came = lands * t * max(stream.share_ahead(rank) - top, 0.0)
        return rank * math.exp(-loss * t) + came - served

    high = served * math.exp(loss * t) + 1.0
    return _bisect(beyond, 0.0, high) if beyond(0.0) < 0 else 0.0


def _bisect(f: Callable[[float], float], low: float, high: float) -> float:
    # Halved eighty times, any span is below what a float can tell apart.
    for _ in range(80):
        middle = (low + high) / 2
        if f(middle) < 0:
            low = middle
        else:
            high = middle
    return (low + high) / 2
