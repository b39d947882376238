"""How far page numbers are off that come from anchors counted some time ago."""

from __future__ import annotations

import math
from dataclasses import dataclass

from vrelko.core.drift.stream import Stream

_NINE_IN_TEN = 1.645


@dataclass(frozen=True, slots=True)
class NumberError:
    """Rows by which a page number is off: the mean, above 0 where rows came; and 90 % at most."""

    mean: float
    most: float


def expect_number_error(stream: Stream, rank: float, age_s: float) -> NumberError:
    """Return by how many rows the row at a rank has moved, `age_s` seconds after it was counted.

    Rows that came ahead of it less those that went: both are Poisson, with the means a i F(r) and
    a d r / n. A row that moves goes from one place and comes at another.
    """
    # Nothing corrects a number that was counted once, so the error grows with time.
    came = age_s * (stream.inserts + stream.moves) * stream.share_ahead(rank)
    went = age_s * (stream.deletes + stream.moves) * min(rank / max(stream.rows, 1.0), 1.0)
    mean, deviation = came - went, math.sqrt(came + went)
    return NumberError(mean, abs(mean) + _NINE_IN_TEN * deviation)
