"""The error of a page whose tables are others than those that its statements were made for."""

from __future__ import annotations

from typing import Any, Protocol

from sqlalchemy.engine.interfaces import Dialect

from vrelko.engines.record import EngineRecord
from vrelko.errors import DatabaseError


class Watched(Protocol):
    """A variant, as far as its results are compared with what is known of its columns."""

    wires: tuple[tuple[Any, Any, bool], ...]
    named: bool
    record: EngineRecord | None
    dialect: Dialect | None
    schemas: str | None
    moments: tuple[tuple[int, bool], ...]


class Knowledge(Protocol):
    """What is known of databases, as far as whoever runs statements tells it of changes."""

    def forget(self) -> None:
        """Ask the catalog again: an index has gone."""

    def read_as_texts(self, dialect: Dialect, lender: Any) -> None:
        """Read dates and moments as texts from now on: the driver met one that it cannot read."""

    def sees(self, lender: Any, variant: Any) -> bool:
        """Tell whether a connection sees the schemas that a variant was made for."""

    def check_end(self, lender: Any, variant: Any) -> None:
        """Raise CatalogMovedError where rows may stand behind the last one, unseen for a NULL."""


class CatalogMovedError(DatabaseError):
    """What is known of the tables is not, or no longer, true of those that were read."""

    def __init__(self, variant: Watched, unreadable: bool = False) -> None:
        """`unreadable`: the tables are the same, and hold moments that the driver cannot read."""
        error = DatabaseError(
            "the tables changed while the page was read", "Read it again", "database-changed"
        )
        super().__init__(error.what, error.todo, error.code)
        self.variant = variant
        self.unreadable = unreadable

    def __reduce__(self) -> Any:
        return DatabaseError, (self.what, self.todo, self.code)
