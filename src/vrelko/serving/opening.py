"""Opening a listing for one request: its variant on a connection, and what cursors are bound to."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from sqlalchemy import Connection, Engine
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors, dialect_of
from vrelko.errors import DatabaseError, PageError
from vrelko.serving.running import Runner
from vrelko.serving.variants import Variant
from vrelko.sql.statements import key_parameters
from vrelko.sql.within import TOP

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing


@dataclass(slots=True)  # not frozen, which takes five times as long to make; nobody changes it
class Request:
    """What a reader asks for; the fields are those of `Listing.read`."""

    at: Any
    params: Mapping[str, Any] | None
    size: object
    order: str | None
    scope: object
    total: bool
    on_bad_page: str
    past_end: str
    time_limit_ms: float | None
    ceiling: str | Spot | None = None


@dataclass(slots=True)
class Opened:
    """A variant on a lent connection, with its parameters and what its cursors are bound to."""

    listing: Listing
    lender: Any
    variant: Variant
    given: Mapping[str, Any]
    fingerprint: bytes
    runner: Runner

    def write(self, spot: Spot) -> str:
        """Return a spot as a cursor."""
        return self.listing.book.write(spot, self.fingerprint, self.listing.sealed)

    def spot_of(self, at: Any) -> Spot:
        """Return where a request begins. Raises CursorError and PageError."""
        if at is None or at == "":
            return Spot.start()
        if isinstance(at, str):
            spot = self.listing.book.read(at, self.fingerprint, self.listing.sealed)
        elif isinstance(at, Spot):
            spot = at
            if spot.fault is not None:
                raise spot.fault
        else:
            raise PageError(
                f"a position of type {type(at).__name__} is not understood",
                "Give a cursor, Spot.number(n), another Spot, or None for the first page",
                "spot-type",
            )
        key = spot.key
        if key is not None and (spot is at or len(key) != self.variant.terms):
            return spot._replace(key=self.variant.key_of(key))
        return spot

    def under(self, top: tuple[Any, ...]) -> Opened:
        """Return the same without the rows ahead of a key."""
        given = {**self.given, **key_parameters(top, TOP)}
        self.runner.params = given
        return replace(self, variant=self.variant.under(top), given=given)


def lend(connection: Any) -> AbstractContextManager[Any]:
    """Lend a connection to read with: an Engine's own for the time, or the caller's.

    Raises DatabaseError for asynchronous ones, which `aread` takes, and where none can be had.
    """
    if isinstance(connection, Connection):
        return nullcontext(connection)
    if hasattr(connection, "run_sync") or hasattr(connection, "sync_engine"):
        raise DatabaseError(
            f"{type(connection).__name__} is asynchronous",
            "Use await listing.aread(…), or run_sync for the other calls",
            "connection-async",
        )
    if not isinstance(connection, Engine):
        return nullcontext(connection)
    with database_errors("connection"):
        return connection.connect()


def open_variant(
    listing: Listing,
    lender: Any,
    params: Mapping[str, Any] | None,
    order: str | None,
    scope: object,
) -> Opened:
    """Return a listing's variant on a lent connection. Raises PageError and OrderError."""
    variety = listing.variety
    dialect: Dialect | None = getattr(lender, "dialect", None)
    if dialect is None or dialect is not variety.served:
        dialect = variety.served = dialect_of(lender)
    variant, values, print_ = variety.open(listing.name, dialect, lender, params, order, scope)
    return Opened(listing, lender, variant, values, print_, Runner(lender, values, variety.forget))
