"""How statements differ by engine, beyond what SQLAlchemy knows: one record an engine.

Engines that are not served have records too, for statements as text.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.stored import Stored
from vrelko.sql.full_text import match_columns, match_document
from vrelko.sql.key_forms import (
    doubts_unknown,
    doubts_untried,
    plain_key,
    postgresql_key,
    sqlite_key,
)
from vrelko.sql.keys import KeyColumn
from vrelko.sql.mariadb_keys import mariadb_key


@dataclass(frozen=True, slots=True, kw_only=True)
class SqlEngine:
    """The parts of one engine, by the name of its dialect; none has a default.

    `key` gives the form of an order term by name, column, dialect, the database's type and whether
    the session's clock has summer time; `doubts` tells whether a type was never tried, so that the
    engine is asked once about its keys. `match_words` is the condition of a search for words, None
    without full text; `like_folds_case` where LIKE takes letters of either case for the same and
    indexes do not. `moments_as_text`: dates and times are stored and compared as texts.
    """

    key: Callable[[str, ColumnElement[Any], Dialect, Stored | None], KeyColumn]
    doubts: Callable[[Stored | None], bool]
    match_words: Callable[[Sequence[ColumnElement[Any]], Any], Any] | None
    like_folds_case: bool
    moments_as_text: bool


def _never(stored: Stored | None) -> bool:
    return False


_MARIADB = SqlEngine(
    key=mariadb_key,
    doubts=doubts_unknown,
    match_words=match_columns,
    like_folds_case=False,
    moments_as_text=False,
)
_PLAIN = SqlEngine(
    key=plain_key, doubts=_never, match_words=None, like_folds_case=False, moments_as_text=False
)
SQL_ENGINES: dict[str, SqlEngine] = {
    "sqlite": SqlEngine(
        key=sqlite_key,
        doubts=_never,
        match_words=None,
        like_folds_case=True,
        moments_as_text=True,
    ),
    "postgresql": SqlEngine(
        key=postgresql_key,
        doubts=doubts_untried,
        match_words=match_document,
        like_folds_case=False,
        moments_as_text=False,
    ),
    "mariadb": _MARIADB,
    "mysql": _MARIADB,  # SQLAlchemy calls either so, until it has asked the server
    "mssql": _PLAIN,
    "oracle": _PLAIN,
}


def key_column(
    name: str,
    element: ColumnElement[Any],
    dialect: Dialect,
    stored: Stored | None = None,
) -> KeyColumn:
    """Return how an order term is read and bound on an engine.

    `stored`: what the database says of its type.
    Raises OrderError for values that no statement can compare as they are sorted.
    """
    # A KeyError for a dialect that nobody wrote forms for: another engine's would compare wrongly.
    return SQL_ENGINES[dialect.name].key(name, element, dialect, stored)


def is_doubtful(stored: Stored | None, dialect: Dialect) -> bool:
    """Tell whether a type was never tried here, so that the engine is asked once about its keys."""
    return SQL_ENGINES[dialect.name].doubts(stored)
