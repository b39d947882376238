"""Searches for words, by each engine's own full text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import ColumnElement, func, literal_column


def match_document(columns: Sequence[ColumnElement[Any]], text: Any) -> Any:
    """Return PostgreSQL's condition: words of the columns together, as they stand."""
    # One NULL would make the whole document NULL.
    whole: Any = func.coalesce(columns[0], "")
    for column in columns[1:]:
        whole = whole.concat(" ").concat(func.coalesce(column, ""))
    # "simple" folds case alone: names are not words of any language. An index must have it too.
    configuration: Any = literal_column("'simple'::regconfig")
    document = func.to_tsvector(configuration, whole)
    return document.op("@@")(func.plainto_tsquery(configuration, text))


def match_columns(columns: Sequence[ColumnElement[Any]], text: Any) -> Any:
    """Return MariaDB's condition, which a FULLTEXT index of just these columns serves."""
    from sqlalchemy.dialects.mysql import match

    return match(*columns, against=text)
