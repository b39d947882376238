"""Counted anchors of a listing's orders: made, kept up and dropped."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, Engine, func, inspect, select

from vrelko.engines.registry import database_errors
from vrelko.serving.anchors.anchor_set import AnchorSet, K, anchor_set
from vrelko.serving.anchors.fold_worker import MOST_FOLDED, build, fold, repair, verify
from vrelko.serving.settings import Settings
from vrelko.sql.anchor_tables import create_statements, drop_statements


class CountedAnchors:
    """The anchors of one order of a listing, in the database of an engine that may write.

    For `Listing(…, jumps="anchors")`: page numbers, the last page, places and totals of very large
    tables, exact while rows change. Triggers append changes to a log; `fold` moves them into the
    anchors and is to be called every second or so, by one process at a time. Every `every` rows
    have an anchor; what they were built with where it is not given, else 1,000. Raises
    ListingError for listings that cannot have them.
    """

    def __init__(
        self, settings: Settings, engine: Engine, order: str | None = None, every: int | None = None
    ) -> None:
        self.engine = engine
        with database_errors("look into the catalog"), engine.connect() as connection:
            made: AnchorSet = anchor_set(settings, connection, order, every or K)
            if every is None:
                made = replace(made, k=_stored(connection, made) or K)
        self._set = made
        self.order = self._set.order
        self._known = settings.anchor_sets

    def statements(self) -> list[str]:
        """Return the statements that make tables and triggers, to be read before they are run."""
        types = self._set.types(self.engine)
        return create_statements(self._set.tables, self.engine.dialect, types)

    def drop_statements(self) -> list[str]:
        """Return the statements that leave nothing of them."""
        return drop_statements(self._set.tables, self.engine.dialect)

    @property
    def exist(self) -> bool:
        """Whether the tables are there."""
        table = self._set.tables.anchors
        with database_errors("look for anchors"):
            return bool(inspect(self.engine).has_table(table.name, schema=table.schema))

    def build(self, progress: Callable[[int], None] | None = None) -> int:
        """Make tables and triggers where they are missing, and lay the anchors of all rows.

        In short transactions; a build that was broken off goes on. Returns the anchors laid, of
        which `progress` is told. Raises DatabaseError, and UnavailableError beside another worker.
        """
        if not self.exist:
            self._set.create(self.engine)
        return build(self.engine, self._set, progress)

    def fold(self, most: int = MOST_FOLDED) -> int:
        """Move up to so many log rows into the anchors; return how many there were.

        Raises DatabaseError, and UnavailableError where another worker is at it.
        """
        return fold(self.engine, self._set, most)

    def verify(self, params: Mapping[str, Any] | None = None) -> list[int]:
        """Return by how many rows each segment is off: all 0 where the anchors are right.

        `params`: values of the listing's required parameters, which divide it into parts.
        """
        return verify(self.engine, self._set, params)

    def repair(self, params: Mapping[str, Any] | None = None) -> int:
        """Set right the segments that are off; return how many were."""
        return repair(self.engine, self._set, params)

    def stored(self) -> tuple[int, int]:
        """Return how many anchors there are, and how many changes wait in the log."""
        anchors, log = self._set.tables.anchors, self._set.tables.log
        with database_errors("look at anchors"), self.engine.connect() as connection:
            counts = [
                connection.execute(select(func.count()).select_from(table)).scalar() or 0
                for table in (anchors, log)
            ]
        return counts[0], counts[1]

    def drop(self) -> None:
        """Leave nothing of them. Raises DatabaseError."""
        self._set.drop(self.engine)
        self._known.clear()


def _stored(connection: Connection, anchors: AnchorSet) -> int | None:
    """Return the rows of an anchor that anchors were built with, None where there are none."""
    state = anchors.tables.state
    if not inspect(connection).has_table(state.name, schema=state.schema):
        return None
    found: int | None = connection.execute(select(state.c.every)).scalar()
    return found
