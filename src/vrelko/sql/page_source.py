"""A select made ready for paging: its keys at the end, without an ORDER BY of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Label, Select

from vrelko.core.capabilities import Capabilities
from vrelko.core.order import Order
from vrelko.core.seek import awkward_terms
from vrelko.sql.indexes import NO_PINS, Pins
from vrelko.sql.keys import KeyColumn
from vrelko.sql.parameters import KEY
from vrelko.sql.sources import is_row_id, same


@dataclass(frozen=True, kw_only=True)
class Source:
    """A select made ready for paging in one order on one engine.

    `select` may carry hidden key columns behind its own `width` columns; `places` says at which
    position of a fetched row each order term stands, `shown` where the user's own row has it, None
    where it has not. `nulls_served`: an index places NULLs as asked. `given`: the order as the
    listing's author wrote it, without the terms that make it total.
    """

    select: Select[Any]
    order: Order
    keys: tuple[KeyColumn, ...]
    width: int
    places: tuple[int, ...]
    shown: tuple[int | None, ...]
    capabilities: Capabilities
    pins: Pins = NO_PINS
    nulls_served: bool = False
    prefix: str = KEY
    flagged: bool = False
    bounded: bool = False
    given: str = ""

    @property
    def hidden(self) -> bool:
        """Whether fetched rows carry columns that the select does not have."""
        return self.flagged or (bool(self.places) and max(self.places) >= self.width)

    def awkward(self, order: Order) -> frozenset[int]:
        """Return the terms whose NULLs would have to be sorted into place."""
        return frozenset() if self.nulls_served else awkward_terms(order, self.capabilities)

    def alone(self) -> frozenset[int]:
        """Return the terms that must not join a row value."""
        # On SQLite a row id in a row value makes the index walk all rows that tie with the key.
        places = {i for i, key in enumerate(self.keys) if key.alone}
        if not self.capabilities.row_id_joins and is_row_id(self.keys[-1].element):
            places.add(len(self.keys) - 1)
        return frozenset(places)


def make_source(
    statement: Select[Any],
    order: Order,
    keys: Sequence[KeyColumn],
    capabilities: Capabilities,
    selected: Sequence[Any],
    pins: Pins = NO_PINS,
    nulls_served: bool = False,
) -> Source:
    """Return the select without its own ORDER BY, its missing key columns added at the end.

    `selected` are the expressions of the select's own row positions.
    """
    places = []
    added: list[ColumnElement[Any]] = []
    for position, key in enumerate(keys):
        # A key that the select shows already is not fetched twice.
        at = _find(selected, key.read)
        if at is None:
            at = len(selected) + len(added)
            added.append(key.read.label(f"{KEY}{position}"))
        places.append(at)
    shown = tuple(_find(selected, key.element) for key in keys)
    whole = statement.order_by(None)
    if whole.get_execution_options().get(
        "yield_per"
    ):  # a page comes whole, and rows are told apart
        whole = whole.execution_options(yield_per=None)
    if added:
        whole = whole.add_columns(*added)
    return Source(
        select=whole,
        order=order,
        keys=tuple(keys),
        width=len(selected),
        places=tuple(places),
        shown=shown,
        capabilities=capabilities,
        pins=pins,
        nulls_served=nulls_served,
    )


def _find(selected: Sequence[Any], element: ColumnElement[Any]) -> int | None:
    """Return the position of an expression among selected ones, under a label or not."""
    for i, one in enumerate(selected):
        plain = one.element if isinstance(one, Label) else one
        if one is not None and (same(one, element) or same(plain, element)):
            return i
    return None
