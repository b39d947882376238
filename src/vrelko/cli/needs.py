"""What a command needs that may not be installed, told before its work begins."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from vrelko.errors import DatabaseError, PageError, PagesFileError, nearest


@contextmanager
def needs_extra(extra: str, what: str) -> Iterator[None]:
    """Turn a missing library into an error that names the extra. Raises PagesFileError."""
    try:
        yield
    # By what is missing, not by the extra: only one of its libraries may be.
    except ImportError as error:
        raise PagesFileError(
            f"{what} needs {error.name}, which is not installed",
            f'Install it with: pip install "vrelko[{extra}]"',
            f"{extra}-extra",
        ) from error


def check_dialect(name: str) -> None:
    """Raise PageError for a dialect that statements cannot be written for."""
    from vrelko.engines.registry import CAPABILITIES, capabilities_of

    try:
        capabilities_of(name)
    except DatabaseError as error:
        raise PageError(
            f"there is no dialect {name!r}", nearest(name, CAPABILITIES), "sql-dialect"
        ) from error
