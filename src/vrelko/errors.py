"""Every error Vrelko raises, with what to do next.

An error says what is wrong (`what`), what to do about it (`todo`) and carries a short stable
`code` that the documentation explains. No message holds row values, secrets or passwords.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable


class VrelkoError(Exception):
    """Anything Vrelko raises on purpose."""

    def __init__(self, what: str, todo: str, code: str) -> None:
        super().__init__(what, todo, code)
        self.what = what
        self.todo = todo
        self.code = code

    def __str__(self) -> str:
        return f"{self.what}. {self.todo}."


class CursorError(VrelkoError):
    """A cursor that is damaged, foreign or not ours: for its holder to drop."""


class PageError(VrelkoError):
    """A page number, size, spot or parameter that cannot be served."""


class PaceError(VrelkoError):
    """A reader that asks for something costly too often."""


class OrderError(VrelkoError):
    """An order that is unknown, not allowed or cannot be made total."""


class ListingError(VrelkoError):
    """A listing whose select or settings cannot be paged as given."""


class PagesFileError(VrelkoError):
    """A pages file that cannot be read or does not hold what it should."""


class FactsError(VrelkoError):
    """Facts that are missing, unreadable or do not cover a listing."""


class DatabaseError(VrelkoError):
    """The database could not be reached or did not answer as asked."""


class UnavailableError(DatabaseError):
    """The database cannot answer now and may soon: away, restarting, locked, or all in use."""


class TimeLimitError(DatabaseError):
    """A statement ran longer than it was allowed to."""


EXIT_STATUS: dict[type[VrelkoError], int] = {
    VrelkoError: 2,
    DatabaseError: 3,
}
"""Exit status of the command line; the nearest class in an error's ancestry counts."""

HTTP_STATUS: dict[type[VrelkoError], int] = {
    VrelkoError: 400,
    PagesFileError: 500,
    PaceError: 429,
    ListingError: 500,
    FactsError: 500,
    DatabaseError: 500,
    UnavailableError: 503,
    TimeLimitError: 504,
}
"""HTTP status for those who serve pages; the nearest class in an error's ancestry counts."""


def find_status(error: VrelkoError, table: dict[type[VrelkoError], int]) -> int:
    """Return the status that `table` holds for the nearest ancestor of the error's class."""
    return next(table[kind] for kind in type(error).__mro__ if kind in table)


def nearest(name: str, known: Iterable[str], *, otherwise: str = "") -> str:
    """Return "did you mean 'x'" for the closest known name, else the list of known names."""
    names = sorted(known)
    close = difflib.get_close_matches(name, names, n=1, cutoff=0.5)
    if close:
        return f"Did you mean {close[0]!r}? Known: {', '.join(names)}"
    return f"Known: {', '.join(names)}" if names else otherwise or "None is known here"
