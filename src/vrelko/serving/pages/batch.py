"""A batch: the rows of one page as they were read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from vrelko.core.arithmetic import NO_TOTAL, Total


@dataclass(slots=True, kw_only=True)
class Batch:
    """Rows of one page as read.

    `full` rows carry the hidden key columns. `before` and `after` tell whether there are rows
    ahead and behind. `offset` is the first row's, None where unknown; `exact` whether it was
    counted by the database rather than carried by the cursor.
    """

    rows: Sequence[Any]
    full: Sequence[Any]
    before: bool
    after: bool
    offset: int | None
    exact: bool
    total: Total | None = NO_TOTAL
