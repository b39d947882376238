"""A walk over rows that change: its terms, its strategies, and what is counted of it.

Rows stand in an order by integer keys, ascending from the head. A row is an identity with a key
that may change; a *version* is a row with one key. Pages p = 0 … P - 1 are asked for at the times
`times[p]`; an event at a page's very time happens before it. A walk ends at the first page that
is not full, or after P pages.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Literal

from vrelko.errors import PageError

DriftStrategy = Literal["offset", "ceiling", "keyset", "frozen-ids", "frozen-view", "overlap"]
DRIFT_STRATEGIES: tuple[DriftStrategy, ...] = (
    "offset", "ceiling", "keyset", "frozen-ids", "frozen-view", "overlap",
)  # fmt: skip
"""How pages are fetched while rows change.

offset: rows pL to (p + 1)L as they stand. ceiling: the same of rows at or behind the place that the
first page began at. keyset: the next L rows behind the last one's key. frozen-ids: a list of row
ids stored at the start, those that still are. frozen-view: rows as they were at the start. overlap:
offset that asks again for the last `overlap` rows, with rows already seen taken out.
"""

# Small numbers, since millions of them stand in arrays.
INSERT, DELETE, MOVE = 0, 1, 2
SPACE = 1 << 32
"""Keys between two rows that were there from the start: row i has the key (i + 1) * SPACE."""


@dataclass(frozen=True, slots=True)
class Event:
    """One change: `row` is inserted with `key`, deleted, or moved to `key`.

    Rows that were there from the start are 0 to N - 1; a new one has a number of its own. A change
    of a row that is not there is none.
    """

    time: float
    kind: int
    row: int
    key: int = 0


@dataclass(frozen=True, slots=True)
class Course:
    """What a walk is over: rows at the start, page size, the times of its pages, its changes.

    Events in the order of time; keys are distinct, and lie between those of the first rows.
    """

    rows: int
    size: int
    times: tuple[float, ...]
    events: tuple[Event, ...]
    overlap: int = 0

    def __post_init__(self) -> None:
        _check(self.rows >= 0, f"{self.rows} rows are fewer than none")
        _check(self.size >= 1, f"a page size of {self.size} is not above 0")
        # Its first page is where it begins.
        _check(len(self.times) >= 1, "a walk has at least one page")
        _check(self.overlap >= 0, f"an overlap of {self.overlap} rows is negative")


@dataclass(frozen=True, slots=True, kw_only=True)
class Counts:
    """What a walk suffered.

    `served` rows in all, over `pages`. `repeats`: servings less distinct rows; `repeats_same_key`
    the same by version; `rows_repeated` rows that came more than once. Covered is what lies ahead
    of the largest key that was served (of a list of ids: as it was listed), or everything where
    the walk came to the end. `misses`: rows that stood at one key at every request, covered, and
    never came. `dodges`: rows there all the time whose key changed, covered at first, and never
    came. `unseen`: rows inserted during the walk, there at its end within what was covered, and
    never shown. `gone` came though deleted, `stale` with a key they had no more.
    """

    served: int = 0
    pages: int = 0
    repeats: int = 0
    repeats_same_key: int = 0
    rows_repeated: int = 0
    misses: int = 0
    dodges: int = 0
    unseen: int = 0
    gone: int = 0
    stale: int = 0

    @property
    def clean(self) -> bool:
        """Whether no row came twice and none was missed."""
        return not (self.repeats or self.misses)

    def as_dict(self) -> dict[str, int]:
        """Return the counts by name."""
        return asdict(self)


COUNTERS = tuple(Counts.__dataclass_fields__)


def first_key(row: int) -> int:
    """Return the key of a row that was there from the start."""
    return (row + 1) * SPACE


def check_strategy(strategy: str) -> None:
    """Raise PageError unless `strategy` is one of DRIFT_STRATEGIES."""
    _check(
        strategy in DRIFT_STRATEGIES, f"{strategy!r} is not one of {', '.join(DRIFT_STRATEGIES)}"
    )


def _check(holds: bool, what: str) -> None:
    if not holds:
        raise PageError(what, "Correct the value", "walk-value")
