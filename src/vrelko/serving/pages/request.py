"""A request: what a reader asks for, bound to a variant on a connection."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager, nullcontext, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any, TypeVar

from sqlalchemy import Connection, DateTime, Engine, bindparam, select
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import SQLAlchemyError

from vrelko.core.spot import Spot, check_spot
from vrelko.engines.registry import database_errors, dialect_of
from vrelko.errors import CursorError, DatabaseError, PageError
from vrelko.serving.anchors.snapshots import begin_snapshot
from vrelko.serving.cursors.values import Digest
from vrelko.serving.pages.long_keys import is_long, lengthen, shorten
from vrelko.serving.settings import Settings
from vrelko.serving.variants.moved import CatalogMovedError
from vrelko.serving.variants.runner import Runner
from vrelko.serving.variants.store import earlier_prints
from vrelko.serving.variants.variant import Variant
from vrelko.sql.entities import adds_by_events, refuse_shards
from vrelko.sql.key_filters import TOP
from vrelko.sql.parameters import key_parameters
from vrelko.sql.period_filters import shortest_text

_DIGESTED = frozenset({Digest})
_MOST_ATTEMPTS = 4
"""Times that a request is asked again while threads find out that their schemas differ."""
_Answer = TypeVar("_Answer")


@dataclass(slots=True)  # not frozen, which takes five times as long to make; nobody changes it
class Request:
    """What a reader asks for; the fields are those of `Listing.read`."""

    at: Any
    params: Mapping[str, Any] | None
    size: object
    order: str | None
    scope: object
    total: bool
    on_bad_page: str = "error"
    past_end: str = "empty"
    time_limit_ms: float | None = None
    ceiling: str | Spot | None = None


@dataclass(slots=True)
class BoundRequest:
    """A variant on a lent connection, with its parameters and what its cursors are bound to.

    `order`, `params` and `scope` as they were asked for. `misfit`: the anchors have promised rows
    that are not there. `shares`: cursors carry totals; else another user might read them.
    """

    settings: Settings
    lender: Any
    variant: Variant
    given: Mapping[str, Any]
    fingerprint: bytes
    runner: Runner
    notes: tuple[str, ...] = ()
    order: str | None = None
    misfit: bool = False
    params: Mapping[str, Any] | None = None
    scope: object = None
    shares: bool = True

    def write(self, spot: Spot) -> str:
        """Return a spot as a cursor, its long values as digests."""
        # Told by the types of the order: most keys are numbers and dates.
        if self.variant.may_be_long:
            if spot.key is not None and is_long(spot.key):
                spot = spot._replace(key=shorten(self.variant, spot.key))
            if spot.top is not None and is_long(spot.top):
                spot = spot._replace(top=shorten(self.variant, spot.top))
        return self.settings.book.write(spot, self.fingerprint, self.settings.sealed)

    def spot_of(self, at: Any) -> Spot:
        """Return where a request begins. Raises CursorError and PageError."""
        if at is None or at == "":
            return Spot.start()
        if isinstance(at, str):
            try:
                spot = self.settings.book.read(at, self.fingerprint, self.settings.sealed)
            except CursorError as error:
                spot = self._read_earlier(at, error)
        elif isinstance(at, Spot):
            spot = at
            check_spot(spot)
        else:
            raise PageError(
                f"a position of type {type(at).__name__} is not understood",
                "Give a cursor, Spot.number(n), another Spot, or None for the first page",
                "spot-type",
            )
        # It may be from before the rows came to be hidden from some.
        if not self.shares and spot.total is not None:
            spot = spot._replace(total=None)
        # A jump to a date becomes the row before it, so that going on needs no special case.
        if spot.kind == "value":
            return self._at_value(spot)
        key = spot.key
        if key is not None:
            # Cursors of this order hold whole keys already; what a caller made may be
            # a row or an entity.
            if spot is at or len(key) != self.variant.terms:
                key = self.key_of(key)
                spot = spot._replace(key=key)
            if self.variant.clocks:
                spot = spot._replace(key=self._as_kept(key))
            if None in key:
                self._check_nulls(key, isinstance(at, str))
            if _DIGESTED.intersection(map(type, key)):
                spot = spot._replace(key=lengthen(self.runner, self.variant, key))
        if spot.top is not None and self.variant.clocks:
            spot = spot._replace(top=self._as_kept(spot.top))
        if spot.top is not None and _DIGESTED.intersection(map(type, spot.top)):
            spot = spot._replace(top=lengthen(self.runner, self.variant, spot.top))
        return spot

    def _as_kept(self, key: tuple[Any, ...]) -> tuple[Any, ...]:
        """Return a key with moments of the session's clock as its columns' keys have them."""
        values = list(key)
        for term in self.variant.clocks:
            from_clock = self.variant.source.keys[term].from_clock
            if isinstance(values[term], datetime) and from_clock is not None:
                if values[term].tzinfo is not None:
                    since = values[term] - datetime(1970, 1, 1, tzinfo=UTC)
                    values[term] = Decimal(since // timedelta(microseconds=1)) / 10**6
                else:
                    moment = bindparam("vrelko_moment", values[term], DateTime(), unique=True)
                    values[term] = self.runner.value(select(from_clock(moment)))
        return tuple(values)

    def _check_nulls(self, key: tuple[Any, ...], of_cursor: bool) -> None:
        try:
            self.variant.check_nulls(key)
        except PageError:
            # A page has shown the NULL: the column holds some now, or does so in another schema.
            if of_cursor:
                raise CatalogMovedError(self.variant) from None
            raise

    def _read_earlier(self, cursor: str, error: CursorError) -> Spot:
        """Return the spot of a cursor that was made when other columns could hold NULL."""
        if error.code != "cursor-foreign":
            raise error
        given = self.settings.variants.filters.check(self.params)
        for one, holds in earlier_prints(self.settings.name, self.variant, given, self.scope):
            with suppress(CursorError):
                spot = self.settings.book.read(cursor, one, self.settings.sealed)
                return spot if holds else spot._replace(total=None)
        # It may be of the schema that the session has moved to: its columns may have other types.
        variant, variants = self.variant, self.settings.variants
        if variant.schemas is not None and not variants.sees(self.lender, variant):
            raise CatalogMovedError(variant)
        raise error

    def _at_value(self, spot: Spot) -> Spot:
        """Return the spot behind the last row that stands ahead of a value in the order."""
        (value,) = spot.key or (None,)
        if value is None:
            raise PageError(
                "Spot.at_value() needs a value, got None",
                f"Give a value of {self.variant.order.names[0]!r}, or Spot.start()",
                "spot-value",
            )
        source = self.variant.source
        # Ascending, the shortest text of a moment stands ahead of all its spellings; descending it
        # would stand behind them.
        if 0 in self.variant.clocks:
            value = self._as_kept((value, *[None] * (self.variant.terms - 1)))[0]
        as_text = source.capabilities.moments_as_text and isinstance(value, datetime)
        if as_text and not source.order.terms[0].descending:
            value = shortest_text(value)
        for statement in self.variant.ahead_of_value():
            rows, _ = self.runner.fetch(statement, None, key_parameters((value,)))
            if rows:
                return Spot("after", self.variant.converted(rows[0]))
        return Spot.start()

    def key_of(self, given: Any) -> tuple[Any, ...]:
        """Return the key that a caller means: of a page's row, or as values. Raises PageError."""
        key = self.settings.held.key_of_row(given, self.variant)
        return self.variant.key_of(given) if key is None else key

    def under(self, top: tuple[Any, ...]) -> BoundRequest:
        """Return the same without the rows ahead of a key."""
        given = {**self.given, **key_parameters(top, TOP)}
        # The runner was made with the request's own values; the ceiling's stand beside them now.
        self.runner.params = given
        return replace(self, variant=self.variant.under(top), given=given)


def lend(connection: Any, settings: Settings) -> AbstractContextManager[Any]:
    """Lend what a listing is read with: an Engine's own connection for the time, or the caller's.

    Rows with entities are read by a Session, on the caller's connection where there is none.
    Raises DatabaseError for asynchronous ones, which `aread` takes, and where none can be had.
    """
    # First the two kinds that most callers pass.
    if isinstance(connection, Connection):
        return _in_session(connection) if settings.variants.orm else nullcontext(connection)
    if hasattr(connection, "run_sync") or hasattr(connection, "sync_engine"):
        raise DatabaseError(
            f"{type(connection).__name__} is asynchronous",
            "Use await listing.aread(…), or run_sync for the other calls",
            "connection-async",
        )
    if not isinstance(connection, Engine):
        return nullcontext(connection)
    with database_errors("connection"):
        # Asked for here and not by a context, so that a database that is away is our own error.
        lent = connection.connect()
        if settings.jumps == "anchors":  # whose several statements must see the same rows
            lent = begin_snapshot(lent)
    return _in_session(lent, own=True) if settings.variants.orm else _Lent(lent)


def as_known(settings: Settings, ask: Callable[[], _Answer]) -> _Answer:
    """Return what is asked for; again, where the tables were not those that were known.

    Their catalog is read anew then, and the schemas are looked for ahead of each page from then on.
    """
    for attempt in range(_MOST_ATTEMPTS):
        try:
            return ask()
        except CatalogMovedError as moved:
            note_move(settings, moved, attempt >= _MOST_ATTEMPTS - 2)
    return ask()


def note_move(settings: Settings, moved: CatalogMovedError, again: bool) -> None:
    """Forget what was known of tables that are others now; `again`: read a moment ago as well."""
    if moved.unreadable:  # which is known by now
        return
    if again:
        # Just read: the protocol calls these columns otherwise than the catalog.
        moved.variant.wires = ()
    else:
        settings.variants.has_moved(moved.variant)
        settings.anchor_sets.clear()


class _Lent:
    """Lends a connection, and gives it back even where the server is gone meanwhile."""

    __slots__ = ("_connection",)

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def __enter__(self) -> Connection:
        return self._connection

    def __exit__(self, *_: object) -> None:
        give_back(self._connection)


def give_back(connection: Connection) -> None:
    """Close a connection; one that cannot even be rolled back is thrown away.

    What was read of it stands: a read-only transaction loses nothing by its end.
    """
    try:
        connection.close()
    except SQLAlchemyError:
        with suppress(SQLAlchemyError):
            connection.invalidate()
            connection.close()


@contextmanager
def _in_session(connection: Connection, own: bool = False) -> Iterator[Any]:
    """Lend a Session on a connection, whose transaction goes on afterwards unless it is our `own`.

    Entities are detached then, with all that was loaded.
    """
    from sqlalchemy.orm import Session

    try:
        if not connection.in_transaction():  # else the Session would begin one and end it
            connection.begin()
        with Session(bind=connection) as session:
            yield session
    finally:
        if own:
            give_back(connection)


def open_variant(
    settings: Settings,
    lender: Any,
    params: Mapping[str, Any] | None,
    order: str | None,
    scope: object,
) -> BoundRequest:
    """Return a listing's variant on a lent connection. Raises PageError and OrderError."""
    variants = settings.variants
    dialect: Dialect | None = getattr(lender, "dialect", None)
    # Looking up the engine takes longer than the rest of opening, and rarely changes.
    adds = False
    if dialect is None or dialect is not variants.served:
        refuse_shards(lender, settings.select)
        adds = scope is None and adds_by_events(lender)
        dialect = variants.served = dialect_of(lender, settings.select)
    variant, values, print_ = variants.open(settings.name, dialect, lender, params, order, scope)
    runner = Runner(lender, values, variants, variant)
    return BoundRequest(
        settings=settings,
        lender=lender,
        variant=variant,
        given=values,
        fingerprint=print_,
        runner=runner,
        order=order,
        params=params,
        scope=scope,
        shares=not (adds or variant.fixed.unread or (variant.private and scope is None)),
    )
