"""One order and one set of filters of a listing, with its statements built once."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Select

from vrelko.core.capabilities import Capabilities
from vrelko.core.order import Order
from vrelko.errors import PageError
from vrelko.sql.statements import (
    Source,
    build_count,
    build_edge,
    build_offset,
    build_seek,
    build_whole,
)


class Variant:
    """The statements of one variant on one engine.

    Statements are built when first needed and kept, so that SQLAlchemy finds its compiled form
    of them again.
    """

    def __init__(self, source: Source, counted: Select[Any], capabilities: Capabilities) -> None:
        self.source = source
        self.capabilities = capabilities
        self._counted = counted
        self._seeks: dict[tuple[tuple[bool, ...], bool], tuple[Select[Any], ...]] = {}
        self._edges = {
            backward: build_edge(source, backward, capabilities) for backward in (False, True)
        }
        self._offset = build_offset(source, capabilities)
        self._counts: dict[int | None, Select[Any]] = {}

    @property
    def order(self) -> Order:
        """The total order, NULL placement settled."""
        return self.source.order

    def edge(self, backward: bool) -> Select[Any]:
        """The statement for the first page, or the last when `backward`."""
        return self._edges[backward]

    def offset(self) -> Select[Any]:
        """The statement for a page behind an offset."""
        return self._offset

    def whole(self) -> Select[Any]:
        """The statement for every row."""
        return build_whole(self.source, self.capabilities)

    def count(self, cap: int | None) -> Select[Any]:
        """The statement that counts the rows, at most `cap` + 1."""
        if cap not in self._counts:
            self._counts[cap] = build_count(self._counted, cap)
        return self._counts[cap]

    def seek(self, key: Sequence[Any], backward: bool) -> tuple[Select[Any], ...]:
        """The statements for the rows behind a key, or ahead of it when `backward`."""
        shape = tuple(value is None for value in key), backward
        if shape not in self._seeks:
            self._seeks[shape] = build_seek(self.source, shape[0], backward, self.capabilities)
        return self._seeks[shape]

    def key_of(self, given: Sequence[Any]) -> tuple[Any, ...]:
        """Return the key that a caller gave: the order's values, or a row of a page.

        Raises PageError when it has another shape.
        """
        if hasattr(given, "_mapping"):
            if self.source.hidden:
                hidden = [
                    term.name
                    for term, place in zip(self.order.terms, self.source.places, strict=True)
                    if place >= self.source.width
                ]
                raise PageError(
                    f"the row lacks {', '.join(hidden)}, which the order needs",
                    "Select these columns, or use page.cursor(i) of the row's page",
                    "spot-row",
                )
            if len(given) != self.source.width:
                raise PageError(
                    "the row is not one of this listing's select",
                    "Pass a row of its pages, or the values of its order as a tuple",
                    "spot-row",
                )
            return tuple(given[place] for place in self.source.places)
        if len(given) != len(self.order):
            raise PageError(
                f"a key of {len(given)} values does not fit the order {str(self.order)!r}",
                f"Give {len(self.order)} values: {', '.join(self.order.names)}",
                "spot-key",
            )
        return tuple(given)
