"""Who asks for pages, who changes rows, and what a screen insists on."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from vrelko.errors import PageError

Lands = Literal["head", "tail", "uniform", "late"]


@dataclass(frozen=True, slots=True)
class Depth:
    """How deep readers go: pages a walk on the mean (geometric), and the share of jumps.

    A jump asks for any page, all alike, by its number.
    """

    mean: float = 4.0
    jumps: float = 0.0

    def __post_init__(self) -> None:
        _check(self.mean >= 1, f"a mean of {self.mean} pages is below 1", "depth.mean")
        _check(0 <= self.jumps <= 1, f"a share of {self.jumps} is not within 0 and 1", "jumps")


@dataclass(frozen=True, slots=True)
class Readers:
    """How pages are asked for.

    `a_minute`: pages of all readers together; `users`: readers at once; `dwell_s`: seconds a
    reader stays on a page; `depth`: how far they go.
    """

    a_minute: float = 60.0
    users: int = 1
    dwell_s: float = 10.0
    depth: Depth = field(default_factory=Depth)

    def __post_init__(self) -> None:
        _check(self.a_minute >= 0, f"{self.a_minute} pages a minute is negative", "a_minute")
        _check(self.users >= 1, f"{self.users} users are fewer than one", "users")
        _check(self.dwell_s >= 0, f"a dwell of {self.dwell_s} s is negative", "dwell_s")


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
        _check(self.kind in ("head", "tail", "uniform", "late"), f"{self.kind!r} is no way to land",
               "lands")  # fmt: skip


@dataclass(frozen=True, slots=True)
class Writers:
    """What changes: inserts and deletes a minute, for the listing as filtered."""

    inserts_a_minute: float = 0.0
    deletes_a_minute: float = 0.0
    lands: Landing = field(default_factory=Landing)

    def __post_init__(self) -> None:
        for name in ("inserts_a_minute", "deletes_a_minute"):
            _check(getattr(self, name) >= 0, f"{getattr(self, name)} is negative", name)


@dataclass(frozen=True, slots=True)
class Needs:
    """What a screen insists on; None where it does not mind.

    `repeats` and `misses` are the most a walk may see on the mean; `p95_ms` milliseconds a page.
    """

    jump: bool = False
    repeats: float | None = None
    misses: float | None = None
    p95_ms: float | None = None
    memory_mb: float | None = None


@dataclass(frozen=True, slots=True)
class Workload:
    """What a pages file says of a listing beside itself; `params` are typical values."""

    readers: Readers = field(default_factory=Readers)
    writers: Writers = field(default_factory=Writers)
    needs: Needs = field(default_factory=Needs)
    params: Mapping[str, Any] = field(default_factory=dict)


def _check(holds: bool, what: str, name: str) -> None:
    if not holds:
        raise PageError(f"{name}: {what}", "Correct the value", "workload-value")
