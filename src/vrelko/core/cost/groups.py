"""Rows alike in the first terms of an order: where their groups begin and end.

A sort within groups reads each group that a page touches to its end. Where facts place a column's
common values, groups are found one by one; the others are taken as equally large.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from vrelko.core.access_path import AccessPath
from vrelko.core.facts import ColumnFacts, TableFacts
from vrelko.core.order import Order, Term

_LOOKED_AT = 20
_FEW = 4.0  # groups within which a page from the beginning knows where groups end


@dataclass(frozen=True, slots=True)
class Spread:
    """How the values of one term lie along its order, in shares of the rows.

    `known` holds where each common value begins and its share; `mean` is the share of another one.
    """

    mean: float
    known: tuple[tuple[float, float], ...] = ()

    def around(self, at: float) -> tuple[float, float]:
        """Return where the value at a place begins and ends."""
        for begin, share in self.known:
            if begin <= at < begin + share:
                return begin, begin + share
        # Near the beginning groups are still where equal sizes put them; further on chance has
        # moved them.
        if at < _FEW * self.mean:
            begin = math.floor(at / self.mean) * self.mean
        else:
            begin = max(at - self.mean / 2, 0.0)
        return begin, min(begin + self.mean, 1.0)


@dataclass(frozen=True, slots=True)
class Groups:
    """Groups along an order of `rows` rows, by the spread of each of the terms they are alike in.

    The terms are taken as independent of each other.
    """

    rows: float
    spreads: tuple[Spread, ...]

    def around(self, at: float) -> tuple[float, float]:
        """Return the beginning and end of the group that holds the row at `at`, in rows."""
        begin, end = 0.0, self.rows
        for spread in self.spreads:
            length = end - begin
            # Within a single row further terms split nothing.
            if length <= 1:
                break
            # A place at the very end belongs to the last group, not to one behind it.
            low, high = spread.around(min((at - begin) / length, 1 - 1e-12))
            begin, end = begin + low * length, begin + high * length
        return (begin, end) if end - begin > 1 else (math.floor(at), math.floor(at) + 1.0)

    def begin(self, at: float) -> float:
        """Return the beginning of the group that holds the row before `at`, in rows."""
        return self.around(max(at - 1, 0.0))[0]

    def end(self, at: float) -> float:
        """Return the end of the group that holds the row before `at`, in rows."""
        return self.around(max(at - 1, 0.0))[1]

    def size(self, at: float) -> float:
        """Return the rows of the group that holds the row at `at`."""
        begin, end = self.around(at)
        return max(end - begin, 1.0)


def find_groups(order: Order, path: AccessPath, table: TableFacts) -> Groups:
    """Return the groups of rows alike in the terms that a path gives in order."""
    rows = max(table.rows * path.share, 1.0)
    terms = [term for term in order.terms if term.name in path.presorted]
    return Groups(rows, tuple(_spread(term, table) for term in terms))


def scattered_share(groups: Groups, blocks: float) -> float:
    """Return the blocks a row that walks of all groups come to, where rows lie scattered.

    Each term's most common values are looked at by themselves, up to 20.
    """
    shares = [(1.0, 1.0)]  # of the rows in groups of a size, and that size, both as shares
    for spread in groups.spreads:
        # With several terms the pairs multiply, and rare values change the sum little.
        # Groups of common values hold most rows, so they are looked at one by one.
        known = sorted((share for _, share in spread.known), reverse=True)[:_LOOKED_AT]
        rest = max(1 - sum(known), 0.0)
        parts = [*((share, share) for share in known), (rest, min(spread.mean, 1.0))]
        shares = [(a * b, size * one) for a, size in shares for b, one in parts]
    found = 0.0
    for share, size in shares:
        rows = max(size * groups.rows, 1.0)
        found += share * heap_blocks(rows, blocks) / rows
    return min(found, 1.0)


def blocks_between(groups: Groups, begin: float, end: float, blocks: float) -> float:
    """Return the table blocks that the groups between two rows come to, one group after another.

    Parts of groups count by their share.
    """
    return _blocks_of(groups.spreads, 0.0, groups.rows, (begin, end), blocks)


def _blocks_of(
    spreads: Sequence[Spread], low: float, high: float, asked: tuple[float, float], blocks: float
) -> float:
    length = high - low
    begin, end = max(asked[0], low), min(asked[1], high)
    if end <= begin or length <= 0:
        return 0.0
    if not spreads or length <= 1:
        return heap_blocks(max(length, 1.0), blocks) * (end - begin) / max(length, 1.0)
    first, rest = spreads[0], spreads[1:]
    found, known = 0.0, 0.0
    # A common value is a group of its own size at a place of its own; the rest are alike.
    for at, share in first.known:
        one, last = low + at * length, low + (at + share) * length
        if last > begin and one < end:
            found += _blocks_of(rest, one, last, asked, blocks)
            known += min(last, end) - max(one, begin)
    usual = max(first.mean * length, 1.0)
    a_group = _blocks_of(rest, 0.0, usual, (0.0, usual), blocks)
    return found + max(end - begin - known, 0.0) / usual * a_group


def heap_blocks(group: float, blocks: float) -> float:
    """Return the table blocks of a group's rows, scattered over the table (Cardenas 1975).

    Rows alike in all columns of an index stand there in the order of their places, so that a walk
    comes to each of their blocks once.
    """
    # The logarithm of 0 would be asked for.
    if blocks <= 1:
        return 1.0
    return blocks * -math.expm1(group * math.log1p(-1 / blocks))


def _spread(term: Term, table: TableFacts) -> Spread:
    if not table.has_column(term.name):
        # Nothing is known of a computed term, so all rows may be alike in it.
        return Spread(1.0)
    return _spread_of(term, table.column(term.name))


# A plan asks for the same few columns at every depth, and their statistics are texts to be read.
@lru_cache(maxsize=256)
def _spread_of(term: Term, column: ColumnFacts) -> Spread:
    # Without common values every value is taken to have as many rows as any other.
    usual = 1 / max(column.distinct or 1.0, 1.0)
    nulls = column.null_share or 0.0
    first_nulls = nulls if term.nulls == "first" else 0.0
    placed = []
    for text, share in column.common:
        # A common value is placed by how much of the histogram lies below it.
        below = column.share_below(_like(text, column))
        if below is None:
            return Spread(usual)
        # From the other end the same value begins behind all that are larger.
        begin = 1 - nulls - below - share if term.descending else below
        placed.append((first_nulls + begin, share))
    if nulls:
        placed.append((0.0 if first_nulls else 1 - nulls, nulls))
    rest = 1 - nulls - sum(share for _, share in column.common)
    others = max((column.distinct or 1.0) - len(column.common), 1.0)
    mean = rest / others if column.common and rest > 1e-9 else usual
    return Spread(max(mean, 1e-12), tuple(sorted(placed)))


def _like(text: str, column: ColumnFacts) -> object:
    """Return the text of a number as one, by the column's type."""
    kind = column.type.upper()
    if any(part in kind for part in ("INT", "NUM", "DEC", "REAL", "DOUB", "FLOA")):
        try:
            return float(text)
        except ValueError:
            return text
    return text
