"""Set filters: whether a page over `column IN (…)` is read by one branch a value.

Three ways lead to a page of several values. A branch a value reads the page's rows of each from an
index on (column, order …). The plain form leaves the choice to the server: it fetches and sorts all
rows of the values, or walks the order and refuses rows of other values until the page is full.
"""

from __future__ import annotations

import math

MOST_VALUES = 64
"""Sets of more values than this are not read by a branch a value."""

FEW_VALUES = 8
"""Sets of so few values always are: what that costs is small and bounded, whatever the rows."""

_A_BRANCH = {"sqlite": 20.0, "postgresql": 50.0, "mariadb": 110.0}
_SOUGHT = {"sqlite": 0.1, "postgresql": 1.2, "mariadb": 2.3}
_WALKED = {"sqlite": 0.1, "postgresql": 0.6, "mariadb": 2.0}
"""Microseconds of a branch, of a row that is fetched and sorted, and of one that is walked over:
from 54 sets of 2 to 60 of 50 to 5,000 values in 600,000 rows (docs/cost.md)."""


def reads_branches(engine: str, values: int, want: float, rows: float, share: float) -> bool:
    """Tell whether a page of `want` rows is read by one branch for each of so many values.

    `rows` are the table's, and `share` is what the values hold of them; 0 where nothing is known,
    which decides for the plain form beyond FEW_VALUES.
    """
    if not 0 < values <= MOST_VALUES:
        return False
    if values <= FEW_VALUES:
        return True
    matching = rows * share
    walked = min(want / share, rows) if share > 0 else math.inf
    plain = min(matching * _SOUGHT[engine], walked * _WALKED[engine])
    return values * _A_BRANCH[engine] < plain
