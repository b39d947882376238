"""What decides on a select's rows beside its parameters: its text, and the values that stand in it.

Cursors are bound to it, since they carry totals: two listings of one name that differ in a value
show other rows.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import BindParameter, Select, literal_column
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql import visitors

_SIZE = 12


@dataclass(frozen=True, slots=True)
class FixedValues:
    """The text of a select, and the values that it holds by itself.

    `values` by the names of their parameters, which a request may give others for; `callables` are
    asked at each request. `unread`: something cannot be read here, such as a lambda of the ORM.
    """

    text: str = ""
    values: tuple[tuple[str, Any], ...] = ()
    callables: tuple[Callable[[], Any], ...] = ()
    unread: bool = False

    def digest(self, given: Mapping[str, Any], describe: Callable[[Any], Any]) -> str:
        """Return a short text that differs where the rows may; `given`: a request's parameters."""
        held = [(name, describe(value)) for name, value in self.values if name not in given]
        asked = [describe(one()) for one in self.callables]
        whole = repr((self.text, held, asked)).encode()
        return hashlib.blake2b(whole, digest_size=_SIZE).hexdigest()


def read_fixed_values(select: Any, dialect: Dialect) -> FixedValues:
    """Return what a select holds by itself."""
    bare = _without_columns(select)
    text = _text_of(bare, dialect)
    parts, unread = [bare], text is None
    for option in getattr(select, "_with_options", ()):
        if type(option).__name__ != "LoaderCriteriaOption":
            continue
        # A lambda tells its conditions, and the values they close over, only as it is run.
        if getattr(option, "deferred_where_criteria", True):
            unread = True
        else:
            parts.append(option.where_criteria)
            text = f"{text} {option.where_criteria}"
    values: list[tuple[str, Any]] = []
    callables: list[Callable[[], Any]] = []
    for element in (one for part in parts for one in visitors.iterate(part)):
        if not isinstance(element, BindParameter):
            continue
        if element.callable is not None:
            callables.append(element.callable)
        elif not element.required:
            values.append(("" if element.unique else element.key, element.value))
    return FixedValues(text or "", tuple(values), tuple(callables), unread)


def _without_columns(select: Any) -> Any:
    """Return a select without what it shows and sorts by, which decide on no row of it."""
    if not isinstance(select, Select) or select._distinct:
        return select
    one: Any = literal_column("1")
    return select.order_by(None).with_only_columns(one, maintain_column_froms=True)


def _text_of(select: Select[Any], dialect: Dialect) -> str | None:
    # First without a dialect, so that a cursor keeps its total on another engine.
    for asked in (None, dialect):
        try:
            return str(select.compile(dialect=asked))
        except Exception:  # types of users' own raise what they like
            continue
    return None
