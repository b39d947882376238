"""drift: expected repeats and misses of a plan's walks, and the same replayed on the database."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import Engine

from vrelko.core.drift.expecting import DriftExpectation
from vrelko.measuring.replay import Replayed, replay
from vrelko.serving.planning import Plan

SCHEMA = "vrelko.drift/1"


@dataclass(frozen=True, slots=True)
class Drift:
    """Expected (closed forms) and replayed (counted) drift of one listing's walks."""

    listing: str
    pages: int
    dwell_s: float
    expected: tuple[DriftExpectation, ...]
    replayed: tuple[Replayed, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the result as plain data (schema `vrelko.drift/1`)."""
        return {"schema": SCHEMA, **asdict(self)}

    def to_json(self) -> str:
        """Return the result as JSON text."""
        return json.dumps(self.as_dict(), indent=2)


def drift(
    plan: Plan,
    engine: Engine | None = None,
    walks: int = 20,
    seed: int = 1,
    progress: Callable[[int], None] | None = None,
) -> Drift:
    """Return what walks over a planned listing suffer while its writers write.

    Without `engine` the expectation alone; with one, `walks` walks are replayed on a temporary copy
    of that SQLite file too. Raises DatabaseError when it cannot be copied.
    """
    expected = tuple(candidate.drift for candidate in plan.candidates)
    replayed = replay(engine, plan, walks, seed, progress) if engine is not None else ()
    return Drift(
        plan.listing, plan.candidates[0].drift.pages, plan.given.readers.dwell_s, expected, replayed
    )
