"""What unsound orders and filters cost readers, in rows, for the findings (docs/findings.md).

All are of one walk; a `boundary` is the place between two pages.
"""

from __future__ import annotations

import math

from vrelko.core.drift.expectation import expect_drift
from vrelko.core.drift.stream import Stream


def lost_by_ties(group: float) -> float:
    """Return rows lost a boundary where pages go on by ">" on an order with ties.

    `group`: the mean of rows that share a value, of groups whose sizes scatter as Poisson's. The
    rest of a group that a page ends in is lost: E[g (g - 1)] / (2 E[g]), which is group / 2.
    """
    return max(group, 0.0) / 2


def lost_by_equal_ties(group: int, size: int) -> int:
    """Return the same where all groups are of one size: what pages of `size` rows leave over."""
    return math.ceil(size / group) * group - size


def left_by_draining(rows: int, size: int) -> int:
    """Return rows that a worker never sees who handles each page so that its rows leave the filter.

    By row offset the next page then skips a page: of each two pages one is handled.
    """
    # A page that was handled is gone, so the next offset passes over one that was not.
    pairs, rest = divmod(rows, 2 * size)
    return rows - pairs * size - min(rest, size)


def moved_about(stream: Stream, size: int, pages: int, dwell_s: float) -> tuple[float, float]:
    """Return rows seen again and rows that dodge a reader by key, since their keys move."""
    found = expect_drift("keyset", stream, size, pages, dwell_s)
    return found.repeats, found.dodges


def torn_by_lag(stream: Stream, lag_s: float, rank: float) -> tuple[float, float]:
    """Return rows missed, and repeated, where the next page comes from a replica that lags.

    By row offset: what came ahead of `rank` in the lag is not there yet, what went still is.
    """
    # Each row is as likely to go as any other.
    hazard = stream.deletes / max(stream.rows, 1.0)
    came = stream.inserts * lag_s * stream.share_ahead(rank)
    return came, rank * -math.expm1(-hazard * lag_s)
