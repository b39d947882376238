"""Who asks for pages, who changes rows, and what a screen insists on."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from vrelko.errors import PageError

Lands = Literal["head", "tail", "uniform", "late"]
LANDINGS: tuple[Lands, ...] = ("head", "tail", "uniform", "late")
DepthKind = Literal["geometric", "uniform", "zipf", "measured"]
DEPTHS: tuple[DepthKind, ...] = ("geometric", "uniform", "zipf", "measured")


@dataclass(frozen=True, slots=True)
class Depth:
    """How deep readers go: mean pages per walk, and the share of jumps.

    `kind`: geometric (each page is the last one with the same chance), uniform (all depths up to
    twice the mean alike), zipf (page n asked for as often as 1 / n), or measured, with `shares` of
    requests for page 1, 2, …. A jump asks for any page, all alike, by its number.
    """

    mean: float = 4.0
    jumps: float = 0.0
    kind: DepthKind = "geometric"
    shares: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        _check(self.mean >= 1, f"a mean of {self.mean} pages is below 1", "depth.mean")
        _check(0 <= self.jumps <= 1, f"a share of {self.jumps} is not within 0 and 1", "jumps")
        _check(
            self.kind in DEPTHS, f"{self.kind!r} is not one of {', '.join(DEPTHS)}", "depth.kind"
        )
        # Shares of another kind would be ignored without a word.
        measured = self.kind == "measured"
        _check(measured == bool(self.shares), "shares go with the kind measured", "depth.shares")
        _check(all(share >= 0 for share in self.shares), "a share is negative", "depth.shares")

    def page_at(self, share: float, pages: int) -> float:
        """Return the page that `share` of the requests of walks do not go beyond, 1 to `pages`."""
        if self.kind == "measured":
            # Counts of a log will do as shares: they need not add up to 1.
            # Added up to the first page that reaches the goal, as a quantile is found.
            reached, goal = 0.0, share * sum(self.shares)
            for page, part in enumerate(self.shares, 1):
                reached += part
                if reached >= goal:
                    return float(min(page, pages))
            return float(min(len(self.shares), pages))
        if self.kind == "uniform":
            # So that the mean of all walks is the one that was asked for.
            most = max(2 * self.mean - 1, 1.0)
            # a walk of w pages asks for pages 1 to w: page n in a share of (most - n) of them
            return float(min(max(most * (1 - math.sqrt(1 - share)), 1.0), pages))
        if self.kind == "zipf":
            # The inverse of ln(n + 1) / ln(pages + 1), which sums of 1 / n come to.
            return float(min(max((pages + 1) ** share, 1.0), pages))
        # Nobody goes on: the geometric inverse would divide by log 0.
        if self.mean <= 1:
            return 1.0
        # The geometric distribution's inverse; log1p keeps shares near 1 apart.
        page = max(math.ceil(math.log1p(-share) / math.log1p(-1 / self.mean)), 1)
        return float(min(page, pages))


@dataclass(frozen=True, slots=True)
class Readers:
    """How pages are asked for.

    `pages_per_minute`: of all readers together; `users`: readers at once; `dwell_s`: seconds a
    reader stays on a page; `depth`: how far they go; `round_trip_ms` from a reader to the
    application and back.
    """

    pages_per_minute: float = 60.0
    users: int = 1
    dwell_s: float = 10.0
    depth: Depth = field(default_factory=Depth)
    round_trip_ms: float = 40.0

    def __post_init__(self) -> None:
        _check(
            self.pages_per_minute >= 0,
            f"{self.pages_per_minute} pages per minute is negative",
            "pages_per_minute",
        )
        _check(self.users >= 1, f"{self.users} users are fewer than one", "users")
        _check(self.dwell_s >= 0, f"a dwell of {self.dwell_s} s is negative", "dwell_s")
        _check(self.round_trip_ms >= 0, f"{self.round_trip_ms} ms is negative", "round_trip_ms")


@dataclass(frozen=True, slots=True)
class Landing:
    """Where in the order new rows land.

    head (first page), tail (last), uniform, or late: newest first, `mean_s` seconds behind the
    head on the mean (exponential), which at a steady rate makes a depth in rows.
    """

    kind: Lands = "head"
    mean_s: float = 0.0

    def __post_init__(self) -> None:
        late = self.kind == "late"
        _check(not late or self.mean_s > 0, "rows that land late need mean_s above 0", "lands")
        _check(
            self.kind in ("head", "tail", "uniform", "late"),
            f"{self.kind!r} is not a way to land",
            "lands",
        )


@dataclass(frozen=True, slots=True)
class Writers:
    """What changes: inserts, deletes and key moves a minute, for the listing as filtered.

    `moving` names the columns whose values change in rows that stay.
    """

    inserts_per_minute: float = 0.0
    deletes_per_minute: float = 0.0
    lands: Landing = field(default_factory=Landing)
    moves_per_minute: float = 0.0
    moving: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        for name in ("inserts_per_minute", "deletes_per_minute", "moves_per_minute"):
            _check(getattr(self, name) >= 0, f"{getattr(self, name)} is negative", name)


@dataclass(frozen=True, slots=True)
class Needs:
    """What a screen insists on; None where it does not mind.

    `repeats` and `misses` are the most a walk may see on the mean; `p95_ms` milliseconds a page,
    and `jump_ms` the most that any page number may take; `exact_total`: no total but an exact one.
    """

    jump: bool = False
    repeats: float | None = None
    misses: float | None = None
    p95_ms: float | None = None
    memory_mb: float | None = None
    jump_ms: float | None = None
    exact_total: bool = False


@dataclass(frozen=True, slots=True)
class Use:
    """One variant in use: an allowed order, values of optional parameters, its share of requests.

    Shares count against each other. `order` None is the default one.
    """

    order: str | None = None
    params: Mapping[str, Any] = field(default_factory=dict)
    share: float = 1.0

    def __post_init__(self) -> None:
        _check(self.share >= 0, f"a share of {self.share} is negative", "share")


@dataclass(frozen=True, slots=True)
class Workload:
    """What a pages file says of a listing beside itself; `params` are typical values.

    `uses` are the variants in use; none given: the default order has half of the requests, and the
    other allowed ones share the rest.
    """

    readers: Readers = field(default_factory=Readers)
    writers: Writers = field(default_factory=Writers)
    needs: Needs = field(default_factory=Needs)
    params: Mapping[str, Any] = field(default_factory=dict)
    uses: tuple[Use, ...] = ()


def _check(holds: bool, what: str, name: str) -> None:
    if not holds:
        raise PageError(f"{name}: {what}", "Correct the value", "workload-value")
