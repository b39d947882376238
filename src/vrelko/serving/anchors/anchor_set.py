"""The anchors of one order of a listing: their statements, and those that share its log."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Column, Connection, Date, DateTime, Time, delete, select

from vrelko.core.kept import Kept
from vrelko.core.key_order import KeyOrder
from vrelko.engines.registry import dialect_of
from vrelko.serving.variants.store import VariantStore
from vrelko.serving.variants.variant import Variant
from vrelko.sql.anchor_tables import AnchorTables

K, FAN = 1_000, 100
"""Rows of an anchor, and anchors of a level between two of the next one."""


@dataclass(frozen=True)
class AnchorSet:
    """The anchors of one order of a listing.

    `owner`: what the names of all its tables begin with, of this and earlier descriptions of the
    listing. `source` holds the listing's statements; `asked` is an order that it allows, None for
    its first, `order` what that is in full; `parts` are the parameters that divide it, in the order
    of the tables' columns; `anchors` and `log` hold the statements of the two tables, `siblings`
    makes the sets of all the listing's orders, by their marks.
    """

    tables: AnchorTables
    owner: str
    source: VariantStore
    asked: str | None
    order: str
    parts: tuple[str, ...]
    anchors: VariantStore
    log: VariantStore
    both: VariantStore
    siblings: Callable[[Any], dict[str, AnchorSet]]
    k: int = K
    fan: int = FAN
    kept: Kept[tuple[Any, ...], Any] = field(default_factory=lambda: Kept(200), compare=False)
    remembered: Kept[tuple[Any, ...], Any] = field(default_factory=lambda: Kept(50), compare=False)
    """The anchors that readers remember, by part."""
    stored: object = None
    """What a file holds of them; None where they stand in the database."""
    identity: tuple[str, str] | None = None
    """What tells the table from others, as SQL and as it was when the anchors were found."""

    def variant(self, connection: Any) -> Variant:
        """The variant whose rows are counted, on a connection."""
        return self.source.variant(dialect_of(connection), self.asked, (), connection)

    def anchored(self, connection: Any) -> Variant:
        """The variant of the anchors of a level and part."""
        return self.anchors.variant(dialect_of(connection), None, (), connection)

    def logged(self, connection: Any) -> Variant:
        """The variant of the log of a part."""
        return self.log.variant(dialect_of(connection), None, (), connection)

    def merged(self, connection: Any) -> Variant:
        """The variant of a part's log and level 1 anchors as one order, anchors behind equals."""
        return self.both.variant(dialect_of(connection), None, (), connection)

    def key_order(self, connection: Any) -> KeyOrder:
        """The order of the anchors' keys for Python, as far as that sorts as the database does."""
        variant = self.variant(connection)
        capabilities = variant.source.capabilities
        columns = [column for column, _ in self.tables.keys]
        # SQLite compares what is stored, which for moments is text.
        texts = [capabilities.moments_as_text and _is_moment(column) for column in columns]
        return KeyOrder(variant.order.terms, texts)

    def log_keys(self, connection: Any) -> list[Any]:
        """The expressions that read the log's keys."""
        return [key.read for key in self.logged(connection).source.keys]

    def part_params(self, params: Mapping[str, Any] | None) -> dict[str, Any]:
        """Return the part that a request's parameters mean, for anchors and log."""
        given = self.source.filters.check(params)
        # Tables have names of their own for parts: a parameter's name may be any text.
        return {f"p{i}": given[name] for i, name in enumerate(self.parts)}

    def members(self, connection: Connection) -> list[tuple[AnchorSet, int]]:
        """Return the sets that have anchors beside this log, with their versions.

        A fold must miss none of them. Those of orders that the listing no longer has are forgotten,
        which readers notice.
        """
        state = self.tables.state
        found = []
        asked = select(state.c.mark, state.c.every, state.c.version)
        for mark, every, version in connection.execute(asked).all():
            one = self if mark == self.tables.mark else self._sibling(connection, mark)
            # A release, or a description, that does not know this order cannot fold into it: better
            # none than wrong ones.
            if one is None:
                connection.execute(delete(state).where(state.c.mark == mark))
            else:
                found.append((one if one.k == every else replace(one, k=every), version))
        return found

    def _sibling(self, connection: Any, mark: str) -> AnchorSet | None:
        known: dict[str, AnchorSet] | None = self.kept.get(("siblings",))
        if known is None:
            known = self.kept.keep(("siblings",), self.siblings(connection))
        found = known.get(mark)
        # Orders of other conditions have logs of their own.
        return found if found and found.tables.group == self.tables.group else None


def _is_moment(column: Column[Any]) -> bool:
    return isinstance(column.type, (Date, DateTime, Time))
