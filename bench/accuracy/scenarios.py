"""Listings over the shapes, and random pages of them that no calibration saw."""

from __future__ import annotations

import random
from dataclasses import dataclass

from sqlalchemy import Table, select

from vrelko import Listing, Sizes

STRATEGIES = ("offset", "deferred-join", "keyset", "two-ended")


@dataclass(frozen=True)
class Scenario:
    """One page of one listing: what is asked of every strategy."""

    listing: str
    share: float  # of the listing's rows that lie ahead
    size: int


def listings(table: Table) -> dict[str, Listing]:
    """Listings without and with equality, residual and set filters, NULLs, wide and covering."""
    c = table.c
    wide, narrow = select(table), select(c.id, c.k)
    usual = {"orders": "k", "sizes": Sizes(20, max=None), "total": "none", "expose": True}
    return {
        "all": Listing(wide, name="all", **usual),
        "covering": Listing(narrow, name="covering", **usual),
        "equal 10 %": Listing(wide.where(c.g == 0), name="equal 10 %", **usual),
        "equal 0.9 %": Listing(wide.where(c.g == 1), name="equal 0.9 %", **usual),
        "residual 10 %": Listing(wide.where(c.r < 10), name="residual 10 %", **usual),
        "residual 50 %": Listing(wide.where(c.r < 50), name="residual 50 %", **usual),
        "set of 3": Listing(wide.where(c.g.in_([0, 1, 7])), name="set of 3", **usual),
        "nulls": Listing(wide, name="nulls", **{**usual, "orders": "w"}),
    }


def draw(rng: random.Random, count: int, names: list[str]) -> list[Scenario]:
    """Pages at log-uniform and uniform depths, of 10 to 1,000 rows."""
    found = []
    for i in range(count):
        deep = rng.random() if i % 2 else 10 ** -rng.uniform(0, 4)
        size = round(10 ** rng.uniform(1, 3))
        found.append(Scenario(names[i % len(names)], deep, size))
    return found
