"""Orders: sort terms, how they are written, and how they are made total."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from vrelko.errors import OrderError

NullPlace = Literal["first", "last"]


@dataclass(frozen=True, slots=True)
class Term:
    """One sort term. `nulls` is None until resolved, and stays None where no NULL can occur."""

    name: str
    descending: bool = False
    nulls: NullPlace | None = None
    nullable: bool = False

    def __str__(self) -> str:
        place = f":nulls-{self.nulls}" if self.nulls else ""
        return f"{'-' if self.descending else ''}{self.name}{place}"

    @property
    def nulls_after(self) -> bool:
        """Whether NULLs come after every value in this term's own direction."""
        return self.nullable and self.nulls == "last"

    def reversed(self) -> Term:
        """Return the term that sorts the other way round, NULLs included."""
        # NULLs turn round with all else: read backward, an index has them at its other end.
        flipped: NullPlace | None = None
        if self.nulls is not None:
            flipped = "first" if self.nulls == "last" else "last"
        return replace(self, descending=not self.descending, nulls=flipped)


@dataclass(frozen=True, slots=True)
class Order:
    """Sort terms, first to last. Total when `unique` terms are among them."""

    terms: tuple[Term, ...]

    def __str__(self) -> str:
        return ",".join(str(term) for term in self.terms)

    def __len__(self) -> int:
        return len(self.terms)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the terms."""
        return tuple(term.name for term in self.terms)

    def reversed(self) -> Order:
        """Return the order that lists the same rows from the other end."""
        return Order(tuple(term.reversed() for term in self.terms))

    @property
    def uniform(self) -> bool:
        """Whether all terms run in one direction."""
        return len({term.descending for term in self.terms}) <= 1


def parse_order(text: str) -> Order:
    """Read an order as text: terms by commas, "-" descends, ":nulls-first" or ":nulls-last".

    The syntax of JSON:API's `sort` with a suffix for NULLs. Raises OrderError.
    """
    terms = [_parse_term(part.strip(), text) for part in text.split(",")]
    names = [term.name for term in terms]
    # The second mention could never decide anything, so it is a mistake.
    for name in names:
        if names.count(name) > 1:
            raise OrderError(
                f"the order {text!r} names {name!r} twice", "Name each column once", "order-syntax"
            )
    return Order(tuple(terms))


def _parse_term(part: str, text: str) -> Term:
    body, colon, suffix = part.partition(":")
    descending = body.startswith("-")
    name = body[1:] if descending else body
    # The minus stands before the name as in JSON:API; what stands behind a colon is ours.
    places: dict[str, NullPlace] = {"nulls-first": "first", "nulls-last": "last"}
    if not name or name.startswith("-") or (colon and suffix not in places):
        raise OrderError(
            f"the order {text!r} cannot be read at {part!r}",
            "Write terms such as 'caught_at', '-caught_at' or '-weight_g:nulls-last', "
            "with commas between them",
            "order-syntax",
        )
    return Term(name, descending, places.get(suffix))


def resolve_nulls(order: Order, nullable: Iterable[str], nulls_low: bool) -> Order:
    """Return the order with each term's NULL placement settled.

    `nullable` names the terms that may hold NULL; `nulls_low` says whether the engine sorts NULL
    below every value (SQLite and MariaDB do, PostgreSQL does not). Terms without NULLs lose their
    placement, so that the same order has one text.
    """
    may = set(nullable)

    def settle(term: Term) -> Term:
        if term.name not in may:
            return replace(term, nulls=None, nullable=False)
        # Low NULLs come first ascending; descending turns them with all else.
        native: NullPlace = "first" if nulls_low != term.descending else "last"
        return replace(term, nulls=term.nulls or native, nullable=True)

    return Order(tuple(settle(term) for term in order.terms))


def make_total(order: Order, unique: Sequence[str]) -> Order:
    """Return the order with missing unique terms added in the direction of its last term.

    Terms after a complete unique set never decide anything and are dropped.
    """
    # Behind the last unique term no two rows are left to compare.
    needed = set(unique)
    kept: list[Term] = []
    for term in order.terms:
        kept.append(term)
        needed.discard(term.name)
        if not needed:
            return Order(tuple(kept))
    # In one direction an index serves both ways; mixed, it would need its own.
    descending = kept[-1].descending if kept else False
    missing = [Term(name, descending) for name in unique if name in needed]
    return Order((*kept, *missing))
