"""Strategies: how pages are fetched, one record each for what the layers must know of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Strategy = Literal["offset", "keyset", "whole", "two-ended", "deferred-join"]


@dataclass(frozen=True, slots=True, kw_only=True)
class StrategyRecord:
    """What is true of one strategy; no part has a default.

    `planned`: the planner weighs it. `by_offset`: its cursors carry row offsets, not keys.
    `deferred`: pages by offset find their keys first. `shape`: the page that its statement text
    shows usually (see `planning.statements_text`). `drifts_as`: whose repeats and misses it has
    (see `core.drift.expectation`). `stores`: it keeps something between requests.
    """

    name: str
    planned: bool
    by_offset: bool
    deferred: bool
    shape: str
    drifts_as: str
    stores: bool


_RECORDS = (
    StrategyRecord(
        name="offset", planned=True, by_offset=True, deferred=False, shape="offset",
        drifts_as="offset", stores=False,
    ),
    StrategyRecord(
        name="two-ended", planned=True, by_offset=True, deferred=False, shape="offset",
        drifts_as="offset", stores=False,
    ),
    StrategyRecord(
        name="deferred-join", planned=True, by_offset=True, deferred=True, shape="offset",
        drifts_as="offset", stores=False,
    ),
    StrategyRecord(
        name="keyset", planned=True, by_offset=False, deferred=False, shape="after",
        drifts_as="keyset", stores=False,
    ),
    StrategyRecord(
        name="whole", planned=True, by_offset=False, deferred=False, shape="whole",
        drifts_as="whole", stores=False,
    ),
    StrategyRecord(
        name="frozen-ids", planned=False, by_offset=True, deferred=False, shape="offset",
        drifts_as="frozen-ids", stores=True,
    ),
)  # fmt: skip

RECORDS: dict[str, StrategyRecord] = {one.name: one for one in _RECORDS}

STRATEGIES: tuple[Strategy, ...] = ("offset", "two-ended", "deferred-join", "keyset", "whole")
"""Strategies that are planned."""

SERVED: tuple[str, ...] = tuple(RECORDS)
"""Strategies that pages are served by: the planned ones, and one that keeps something stored."""
