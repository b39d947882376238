"""Keys of rows: read off fetched rows, checked against one another, taken from who gives one."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, time
from operator import itemgetter
from typing import Any

from sqlalchemy import ColumnElement

from vrelko.core.advance import alike, goes_back
from vrelko.core.order import Order
from vrelko.errors import ListingError, PageError
from vrelko.sql.page_source import Source


class RowKeys:
    """What a variant knows of the keys of its rows."""

    def __init__(self, source: Source, identity: Sequence[int] = ()) -> None:
        """`identity`: the terms of the order that tell rows apart; all where none are named."""
        self.source = source
        self.identity = tuple(identity) or tuple(range(len(source.order)))
        self.terms = len(source.order)
        # Made once, since a key is read of every page.
        self._take = itemgetter(*source.places)
        self._converts = tuple((i, key.to_key) for i, key in enumerate(source.keys) if key.to_key)
        self.clocks = tuple(i for i, key in enumerate(source.keys) if key.from_clock)
        """Terms whose keys are not the moments that a caller gives, or an earlier cursor holds."""
        self._both = source.order.terms, source.order.reversed().terms
        self._down = bool(self.terms) and source.order.terms[0].descending
        # A row id that must not join a row value splits ties: they are few, or a
        # statement of their own.
        alone = source.alone() - {i for i, key in enumerate(source.keys) if key.alone}
        self.splits_ties = bool(alone) and self.terms > 1
        # Asked once here: both questions come up at every page.
        kinds = [python_type(key.element) for key in source.keys]
        self.may_be_long = any(kind in (str, bytes, None) for kind in kinds)
        """Whether a key may hold values too long for a cursor."""
        self.may_fold = any(kind in (datetime, time, None) for kind in kinds)
        """Whether a key may hold moments that Python takes for equal and are not."""

    @property
    def order(self) -> Order:
        """The total order, NULL placement settled."""
        return self.source.order

    def key_from(self, row: Sequence[Any]) -> tuple[Any, ...]:
        """Return the key of a full row."""
        taken = self._take(row)
        # itemgetter of one place gives the value itself, of several a tuple.
        key = taken if len(self.source.places) > 1 else (taken,)
        if not self._converts:
            return tuple(key)
        return self.converted(key)

    def check_page(self, key: Sequence[Any], full: Sequence[Any], size: int) -> None:
        """Raise ListingError where the rows behind a key do not come there, or the last is lost.

        What `check_advance` and `check_apart` tell, on the way of most pages; where keys are
        converted they come just as they are stored, and only a row's very own key is looked at.
        """
        first, terms = self._take(full[0]), self.terms
        place = self.identity[0]
        one, other = (key[place], first[place]) if terms > 1 else (key[0], first)
        # Without conversions equal identities mean the very row of the key: then all is
        # compared.
        if one == other or not self._converts:
            begins = first[0] if terms > 1 else first
            plain = type(key[0]) is type(begins) is int and key[0] != begins
            if not plain or (begins > key[0]) == self._down:
                self.check_advance(key, full, False)
        # Only the last row of the page and the one behind it can part two rows of one key.
        if len(full) > size and self._take(full[-2]) == self._take(full[-1]):
            self.check_apart(full[-2], full[-1])

    def check_advance(self, key: Sequence[Any], full: Sequence[Any], backward: bool) -> None:
        """Raise ListingError where the rows behind a key, or ahead of it, do not come there."""
        if not full:
            return
        # A type that sorts otherwise than it compares would show the same rows for ever.
        if goes_back(self._both[backward], key, self.key_from(full[0])):
            raise stuck(str(self.order))

    def check_apart(self, one: Any, other: Any) -> None:
        """Raise ListingError where two neighbouring rows have one key: the second would be lost."""
        if self._take(one) == self._take(other) and alike(self._take(one), self._take(other)):
            raise tied(str(self.order))

    def repeats(self, full: Sequence[Any]) -> bool:
        """Tell whether two rows have one identity: a join by it has brought rows of others along.

        Children of one parent table may share ids, and a column may hold texts for equal that its
        model tells apart.
        """
        ids = [self.id_of(self.key_from(row)) for row in full]
        return len(set(ids)) < len(ids)

    def near(self, full: Sequence[Any], index: int, edge: int, whole: bool) -> bool:
        """Tell whether the rows that tie with row `index` on all but a row id are few.

        They are where their group begins or ends between the row and the page's `edge` row, or
        where the page is `whole` at that edge.
        """
        # Only where ties are a statement of their own does their number matter.
        if not self.splits_ties:
            return False
        return whole or self.key_from(full[edge])[:-1] != self.key_from(full[index])[:-1]

    def check_nulls(self, key: Sequence[Any]) -> None:
        """Raise PageError for a NULL where the order's column holds none."""
        for value, term in zip(key, self.order.terms, strict=True):
            if value is None and not term.nullable:
                raise PageError(
                    f"the key has NULL for {term.name!r}, which is never NULL",
                    "Give the values of a row that is there",
                    "spot-key",
                )

    def key_of(self, given: Sequence[Any]) -> tuple[Any, ...]:
        """Return the key that a caller gave: the order's values, or a row of a page.

        Raises PageError when it has another shape.
        """
        # The usual case first: a key of values, as a page hands it out.
        if type(given) is tuple and len(given) == self.terms and not _is_entity(given[0]):
            return given
        if type(given) is tuple and given and _is_entity(given[0]):
            raise PageError(
                "the entity is not one of a page that is still held",
                "Keep the page, or take its key from page.keys[i]",
                "spot-row",
            )
        # A row is taken for a key by the places of its columns, not by their names.
        if hasattr(given, "_mapping"):
            missing = [
                term.name
                for term, place in zip(self.order.terms, self.source.shown, strict=True)
                if place is None
            ]
            if missing:
                raise PageError(
                    f"the row lacks {', '.join(missing)}, which the order needs",
                    "Select these columns, or use page.cursor(i) of the row's page",
                    "spot-row",
                )
            # A row of another select may have columns of the same names.
            if len(given) != self.source.width:
                raise PageError(
                    "the row is not one of this listing's select",
                    "Pass a row of its pages, or the values of its order as a tuple",
                    "spot-row",
                )
            return tuple(given[place] for place in self.source.shown if place is not None)
        if not isinstance(given, Sequence) or len(given) != len(self.order):
            count = len(given) if isinstance(given, Sequence) else 1
            raise PageError(
                f"a key of {count} values does not fit the order {str(self.order)!r}",
                f"Give {len(self.order)} values: {', '.join(self.order.names)}",
                "spot-key",
            )
        return tuple(given)

    def converted(self, values: Sequence[Any]) -> tuple[Any, ...]:
        """Return a key as read from the database, its values as keys hold them."""
        found = list(values)
        for position, convert in self._converts:
            found[position] = convert(found[position])
        return tuple(found)

    def id_of(self, key: Sequence[Any]) -> tuple[Any, ...]:
        """Return the part of a key that identifies its row."""
        return tuple([key[place] for place in self.identity])


def python_type(element: ColumnElement[Any]) -> type | None:
    """Return the type of an expression's values in Python, None where SQLAlchemy knows none."""
    try:
        return element.type.python_type
    except NotImplementedError:
        return None


def _is_entity(value: Any) -> bool:
    return hasattr(value, "_sa_instance_state")


def stuck(order: str) -> ListingError:
    """Return the error of a walk that does not go on."""
    return ListingError(
        f"the order {order!r} does not go on behind its own keys: the database compares a value "
        "otherwise than it sorts it",
        "Order by another column or by an expression of this one, and please tell its type",
        "key-stuck",
    )


def tied(order: str) -> ListingError:
    """Return the error of two rows that no cursor tells apart."""
    return ListingError(
        f"two rows have one key in the order {order!r}, so one would be lost between two pages",
        "Name columns that tell all rows apart with unique=[…]",
        "key-tied",
    )
