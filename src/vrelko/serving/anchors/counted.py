"""Counted anchors of a listing's orders: made, kept up and dropped."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection, Engine, func, inspect, select

from vrelko.engines.registry import database_errors, record_of
from vrelko.serving.anchors.anchor_set import AnchorSet, K
from vrelko.serving.anchors.fold_worker import MOST_FOLDED, build, fold
from vrelko.serving.anchors.making import (
    are_lost,
    create,
    create_statements,
    drop,
    drop_statements,
    exists,
    grant,
    grant_statements,
    leftovers,
    refuse_policies,
    sweep,
)
from vrelko.serving.anchors.of_listing import anchor_set
from vrelko.serving.anchors.verifying import check, repair, verify
from vrelko.serving.settings import Settings
from vrelko.sql.anchor_tables import AnchorTables


@dataclass(frozen=True, slots=True)
class AnchorState:
    """What anchors are: `every` so many rows, `static` without triggers.

    `age_s`: seconds since they were folded, laid or counted. `built`: whether their build has
    ended; before that nobody goes by them. `wrong`: a check found a segment off, and
    readers do not use them until `repair`.
    """

    every: int
    static: bool
    age_s: float
    built: bool
    wrong: bool = False


class CountedAnchors:
    """The anchors of one order of a listing, in the database of an engine that may write.

    For `Listing(…, jumps="anchors")`: page numbers, the last page, positions and totals of very
    large tables, exact while rows change. Triggers append changes to a log; `fold` moves them into
    the anchors and is to be called every second or so, by one process at a time. Every `every` rows
    have an anchor; what they were built with where it is not given, else 1,000. Raises ListingError
    for listings that cannot have them.
    """

    def __init__(
        self, settings: Settings, engine: Engine, order: str | None = None, every: int | None = None
    ) -> None:
        self.engine = engine
        with database_errors("look into the catalog"), engine.connect() as connection:
            made: AnchorSet = anchor_set(settings, connection, order, every or K)
            if every is None:
                # What they were built with: other spacing would count segments that are not there.
                made = replace(made, k=_stored(connection, made) or K)
        self._set = made
        self.order = self._set.order
        self._known = settings.anchor_sets

    def statements(self, *, static: bool = False) -> list[str]:
        """Return the statements that make tables and triggers, to be read before they are run."""
        return create_statements(self.engine, self._set, static=static)

    def drop_statements(self) -> list[str]:
        """Return the statements that leave nothing, where no other order has anchors."""
        return drop_statements(self.engine, self._set)

    def grant_statements(self, role: str, *, folds: bool = False) -> list[str]:
        """Return the statements that let a role read the anchors; with `folds`, fold them too.

        On MariaDB a role, or an account as name@host. None on SQLite, which has no roles.
        """
        return grant_statements(self.engine, self._set, role, folds)

    def grant(self, role: str, *, folds: bool = False) -> None:
        """Let a role read the anchors; with `folds`, fold them too. Raises DatabaseError."""
        grant(self.engine, self._set, role, folds)

    @property
    def tables(self) -> AnchorTables:
        """The tables that they stand in: `anchors`, `log` and `state`, the last two shared."""
        return self._set.tables

    @property
    def exist(self) -> bool:
        """Whether the tables are there."""
        return exists(self.engine, self._set)

    def build(self, progress: Callable[[int], None] | None = None, *, static: bool = False) -> int:
        """Make tables and triggers where they are missing, and lay the anchors of all rows.

        In short transactions; a build that was broken off goes on. Returns the anchors laid, of
        which `progress` is told. Raises DatabaseError, UnavailableError beside another worker, and
        ListingError for a table with row policies.

        `static`: without triggers, for tables that are loaded at night or only grow at their end.
        Pages then say that numbers are as of the last count; `build` lays anchors along new rows,
        and `repair` counts anew.
        """
        refuse_policies(self.engine, self._set)
        # None, some that a worker did not know and folded nothing into, or some of a former table.
        if self.state() is None or are_lost(self.engine, self._set):
            create(self.engine, self._set, static=static)
        laid = build(self.engine, self._set, progress, static=static)
        if (state := self.state()) is not None and state.wrong:
            self.repair()
        return laid

    def check(self, many: int = 2) -> list[int]:
        """Return by how many rows a few segments, drawn at random, are off; 0 where all is right.

        For who folds: what fires no trigger is found so sooner or later. Pages go by offset then,
        until `repair` has been run. Raises as `fold` does.
        """
        return check(self.engine, self._set, many)

    def warnings(self) -> list[str]:
        """Return what changes rows of this table and fires no trigger, as far as can be told."""
        with database_errors("look into the catalog"), self.engine.connect() as connection:
            return record_of(connection.dialect).anchors.unseen(connection, self._set.tables.table)

    def fold(self, most: int = MOST_FOLDED) -> int:
        """Move up to so many log rows into the anchors; return how many there were.

        Raises DatabaseError, and UnavailableError where another worker is at it.
        """
        return fold(self.engine, self._set, most)

    def verify(self, params: Mapping[str, Any] | None = None) -> list[int]:
        """Return by how many rows each segment is off: all 0 where the anchors are right.

        `params`: values of the listing's required parameters, which divide it into parts; None: of
        all parts.
        """
        return verify(self.engine, self._set, params)

    def repair(self, params: Mapping[str, Any] | None = None) -> int:
        """Set right the segments that are off, of one part or of all; return how many were."""
        return repair(self.engine, self._set, params)

    def stored(self) -> tuple[int, int]:
        """Return how many anchors there are, and how many changes wait in the log."""
        anchors, log = self._set.tables.anchors, self._set.tables.log
        with database_errors("look at anchors"), self.engine.connect() as connection:
            # Counted only for people who ask: it reads both tables.
            counts = [
                connection.execute(select(func.count()).select_from(table)).scalar() or 0
                for table in (anchors, log)
            ]
        return counts[0], counts[1]

    def state(self) -> AnchorState | None:
        """Return what the anchors are; None where there are none, or nothing is laid yet."""
        state = self._set.tables.state
        if not self.exist:
            return None
        # One state for all orders of the log, a row each.
        own = state.c.mark == self._set.tables.mark
        with database_errors("look at anchors"), self.engine.connect() as connection:
            found = connection.execute(select(state).where(own)).first()
        if found is None:
            return None
        # The database's host may be ahead of this one's clock.
        age_s, wrong = max(time.time() - abs(found.folded), 0.0), found.folded < 0
        built = bool(found.version) or wrong
        return AnchorState(found.every, found.version < 0, age_s, built, wrong)

    def drop(self) -> None:
        """Leave nothing of them; the log goes with the last order's. Raises DatabaseError."""
        drop(self.engine, self._set)
        # What readers of this process remember is of anchors that are gone.
        self._known.clear()

    def leftovers(self) -> list[str]:
        """Return what earlier descriptions of the listing have left: names in tables and triggers.

        Of other orders, parts or conditions. Their triggers cost writers and serve nobody.
        """
        return leftovers(self.engine, self._set)

    def sweep(self) -> list[str]:
        """Take away what earlier descriptions have left; return its names. Raises DatabaseError."""
        return sweep(self.engine, self._set)


def _stored(connection: Connection, anchors: AnchorSet) -> int | None:
    """Return the rows of an anchor that anchors were built with, None where there are none."""
    state = anchors.tables.state
    if not inspect(connection).has_table(state.name, schema=state.schema):
        return None
    own = state.c.mark == anchors.tables.mark
    found: int | None = connection.execute(select(state.c.every).where(own)).scalar()
    return found
