"""Spots: where a page begins."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal, NamedTuple, cast

from vrelko.core.arithmetic import check_number, check_offset
from vrelko.errors import PageError

SpotKind = Literal["start", "end", "after", "before", "number", "offset", "value"]


class Spot(NamedTuple):
    """Where a page begins; make one with the class methods.

    `key` holds the values of the order's terms (after, before); `at` a page number or a row offset;
    for after and before, `at` is the offset of the page's first row (after) or of the row behind
    its last (before) where that is known, so that pages keep their numbers. `fill` makes a page
    before a key that reaches the start a full first page; `rows` bounds a page that must end before
    the next one begins; `near` says that the rows which share the key's terms but the last stand on
    the key's own page, so that they are few. `total` is one that was counted earlier in the walk.
    `top` is the key of the first row of the walk's first page, `digests` tell rows served before,
    `frozen` names a stored list of rows. `asked` and `fault` keep what was given as a number but is
    none. Of kind "value", `key` holds a value of the order's first term.
    """

    kind: SpotKind
    key: tuple[Any, ...] | None = None
    at: int | None = None
    fill: bool = False
    rows: int | None = None
    near: bool = False
    total: int | None = None
    top: tuple[Any, ...] | None = None
    digests: bytes | None = None
    frozen: str | None = None
    asked: object = None
    fault: PageError | None = None

    @classmethod
    def start(cls) -> Spot:
        """The first page."""
        return cls("start")

    @classmethod
    def end(cls) -> Spot:
        """The last page."""
        return cls("end")

    @classmethod
    def after(cls, key: object) -> Spot:
        """The rows behind a key: the order's values of one row, or a row of a page."""
        return cls("after", _as_key(key))

    @classmethod
    def before(cls, key: object) -> Spot:
        """The rows directly ahead of a key, nearest ones if there are more than a page."""
        return cls("before", _as_key(key))

    @classmethod
    def at_value(cls, value: object) -> Spot:
        """The page that begins at a value of the order's first column, or right behind it.

        Such as a date, without the key of any row: one more statement finds the row ahead of it.
        """
        return cls("value", (value,))

    @classmethod
    def number(cls, number: object) -> Spot:
        """Page `number`, from 1, as an int or as text from a URL; None or "" is the first page.

        What is no page number is a PageError when it is read, or the nearest page there is where
        the reader asks for that (`on_bad_page="clamp"`).
        """
        # ?page= in an address means that nobody filled it in.
        if number is None or number == "":
            return cls.start()
        try:
            return cls("number", at=check_number(number))
        except PageError as error:
            return cls("number", asked=number, fault=error)

    @classmethod
    def offset(cls, rows: object) -> Spot:
        """The page that begins `rows` rows from the start; None or "" is the first page.

        What is no offset is treated as for `number`.
        """
        if rows is None or rows == "":
            return cls.start()
        try:
            return cls("offset", at=check_offset(rows))
        except PageError as error:
            return cls("offset", asked=rows, fault=error)


_NUMBERED = ("number", "offset")
_KEYED = ("after", "before", "value")


def check_spot(spot: Spot) -> None:
    """Raise PageError for a spot that none of the class methods makes, or one made of no number."""
    if spot.fault is not None:
        raise spot.fault
    at, least = spot.at, 1 if spot.kind == "number" else 0
    # Spots are tuples, so anybody can make one by hand that no method would.
    fits = spot.kind in ("start", "end", *_NUMBERED, *_KEYED)
    if spot.kind in _NUMBERED or at is not None:
        # True is an int to Python, and no page number to anybody.
        fits = fits and type(at) is int and at >= least
    if (spot.key is not None) != (spot.kind in _KEYED) or not fits or isinstance(spot.key, str):
        raise PageError(
            f"no page can begin at {spot!r}",
            "Make one by Spot.after(key), Spot.number(n) or another class method",
            "spot-type",
        )


def _as_key(key: Any) -> tuple[Any, ...]:
    if isinstance(key, list):
        return tuple(key)
    if isinstance(key, Sequence) and not isinstance(key, (str, bytes)):
        # A row of a page (a sequence, no tuple) stays itself: the listing knows its columns.
        return cast("tuple[Any, ...]", key)
    return (key,)
