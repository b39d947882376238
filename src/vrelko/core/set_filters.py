"""Set filters: whether a page over `column IN (…)` is read by one branch a value.

Three ways lead to a page of several values. A branch a value reads the page's rows of each from an
index on (column, order …). The plain form leaves the choice to the server: it fetches and sorts all
rows of the values, or walks the order and refuses rows of other values until the page is full.
"""

from __future__ import annotations

import math

from vrelko.core.engine_traits import TRAITS

MOST_VALUES = 64
"""Sets of more values than this are not read by a branch a value."""

FEW_VALUES = 8
"""Sets of so few values always are: what that costs is small and bounded, whatever the rows."""


def reads_branches(engine: str, values: int, want: float, rows: float, share: float) -> bool:
    """Tell whether a page of `want` rows is read by one branch for each of so many values.

    `rows` are the table's, and `share` is what the values hold of them; 0 where nothing is known,
    which decides for the plain form beyond FEW_VALUES.
    """
    if not 0 < values <= MOST_VALUES:
        return False
    if values <= FEW_VALUES:
        return True
    # The server takes the cheaper of two plain ways: fetch all of the values' rows and sort them,
    # or walk the order until enough have passed.
    matching = rows * share
    walked = min(want / share, rows) if share > 0 else math.inf
    prices = TRAITS[engine].prices
    plain = min(matching * prices.set_sought_us, walked * prices.set_walked_us)
    return values * prices.set_branch_us < plain
