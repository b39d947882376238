"""Text search: a filter that is there when its parameter is, in the form each engine serves."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, String, and_, bindparam, or_

from vrelko.errors import ListingError, nearest
from vrelko.sql.engines import SQL_ENGINES

KINDS = ("prefix", "contains", "words")

PARAMETER = "search"
_LIKE, _LOW, _HIGH = "search_like", "search_low", "search_high"
_LAST = chr(sys.maxunicode) * 3
"""Behind every text that may follow, whatever letters a collation takes for one."""


@dataclass(frozen=True)
class Search:
    """A text search over columns of a listing, given as `params={"search": …}`.

    `columns`: names or columns, any of which may match. `how`: "prefix" (an index on the column
    serves it on SQLite and MariaDB, on PostgreSQL one with text_pattern_ops or the C collation),
    "contains", or "words" (the engine's full text: PostgreSQL's simple configuration, MariaDB's
    MATCH over a FULLTEXT index of just these columns; not on SQLite). `orders`: further orders that
    are allowed while searching, the first of them the default then.
    """

    columns: Sequence[Any]
    how: str = "prefix"
    orders: Sequence[str] = ()

    def __post_init__(self) -> None:
        if self.how not in KINDS:
            raise ListingError(
                f"a search cannot be {self.how!r}", nearest(str(self.how), KINDS), "listing-choice"
            )
        for name in ("columns", "orders"):
            value = getattr(self, name)
            listed = isinstance(value, Sequence) and not isinstance(value, (str, bytes))
            if not listed or (name == "orders" and not all(isinstance(o, str) for o in value)):
                raise ListingError(
                    f"{name} of a search must be a list, not a {type(value).__name__}",
                    f"Give {name}=['ring']",
                    "search-columns",
                )
        if not self.columns:
            raise ListingError(
                "a search needs at least one column", "Give columns=['ring']", "search-columns"
            )

    def condition(self, columns: Sequence[ColumnElement[Any]], dialect: str) -> Any:
        """Return the condition in the form an engine serves. Raises ListingError."""
        if self.how == "words":
            return _words(columns, dialect)
        if self.how == "prefix" and SQL_ENGINES[dialect].like_folds_case:  # an index does not
            # A range says the same as LIKE 'text%', and an index serves it.
            low = bindparam(_LOW, type_=String())
            high = bindparam(_HIGH, type_=String())
            return or_(*(and_(column >= low, column < high) for column in columns))
        like = bindparam(_LIKE, type_=String())
        return or_(*(column.like(like, escape="/") for column in columns))

    def values(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """Return the parameters that the condition takes, for the text in `given`."""
        text = str(given[PARAMETER])
        # Readers type % and _ and mean them.
        escaped = text.replace("/", "//").replace("%", "/%").replace("_", "/_")
        like = f"%{escaped}%" if self.how == "contains" else f"{escaped}%"
        return {_LIKE: like, _LOW: text, _HIGH: text + _LAST, PARAMETER: text}


def _words(columns: Sequence[ColumnElement[Any]], dialect: str) -> Any:
    condition = SQL_ENGINES[dialect].match_words
    if condition is None:
        raise ListingError(
            f"a search for words needs the engine's full text, which {dialect} has not here",
            "Use how='contains', or join a full-text table of your own in the select",
            "search-words",
        )
    return condition(columns, bindparam(PARAMETER, type_=String()))
