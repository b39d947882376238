"""What a listing may be made of: each argument is looked at once, with a word on what fits."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from pathlib import PurePath
from typing import Any

from sqlalchemy import ClauseElement

from vrelko.core.arithmetic import Sizes
from vrelko.core.periods import Periods
from vrelko.errors import ListingError
from vrelko.serving.steady.settings import Steady
from vrelko.sql.search import Search

Check = Callable[[Any], bool]


def check_arguments(given: Mapping[str, Any]) -> None:
    """Raise ListingError for the first argument of a Listing that is of another kind."""
    # None means left out, but for those whose default is something else.
    for name, (fits, todo) in _ARGUMENTS.items():
        unset = given[name] is None and name not in _NEEDED
        if not unset and not fits(given[name]):
            raise ListingError(
                f"{name} cannot be {_shown(given[name])}", f"Give {todo}", "listing-argument"
            )


def is_clause(value: Any) -> bool:
    """Tell whether a value is a SQLAlchemy expression or a mapped attribute."""
    return isinstance(value, ClauseElement) or hasattr(value, "__clause_element__")


def is_number(value: Any) -> bool:
    """Tell whether a value is a plain finite number."""
    return type(value) in (int, float) and math.isfinite(value)


def _shown(value: Any) -> str:
    # Anything else may hold secrets or rows: its type says enough.
    plain = type(value) in (int, float, bool)
    return repr(value) if plain else f"a {type(value).__name__}"


def _is_texts(value: Any) -> bool:
    listed = isinstance(value, Sequence) and not isinstance(value, (str, bytes))
    return listed and all(isinstance(one, str) for one in value)


def _is_order(value: Any) -> bool:
    several = value if isinstance(value, (list, tuple)) else [value]
    return all(isinstance(one, str) or is_clause(one) for one in several)


def _is_orders(value: Any) -> bool:
    return all(map(_is_order, value)) if isinstance(value, (list, tuple)) else _is_order(value)


def _is_filters(value: Any) -> bool:
    return isinstance(value, Mapping) and all(
        isinstance(name, str) and is_clause(clause) for name, clause in value.items()
    )


def _is_secrets(value: Any) -> bool:
    listed = isinstance(value, (list, tuple))
    return listed and all(isinstance(one, (str, bytes)) for one in value)


def _is_workload(value: Any) -> bool:
    from vrelko.core.workload import Workload

    return isinstance(value, Workload)


def _is_count(value: Any) -> bool:
    return type(value) is int and value >= 0


_NEEDED = ("cap", "expose", "secrets")
_ARGUMENTS: dict[str, tuple[Check, str]] = {
    "name": (lambda value: isinstance(value, str), "text"),
    "orders": (_is_orders, "text such as '-caught_at', ORDER BY expressions, or a list of these"),
    "filters": (_is_filters, "conditions by name: {'species': table.c.x == bindparam('species')}"),
    "search": (lambda value: isinstance(value, Search), "vrelko.Search(['ring'])"),
    "sizes": (lambda value: isinstance(value, Sizes), "vrelko.Sizes(25)"),
    "cap": (_is_count, "a whole number"),
    "count_ms": (lambda value: is_number(value) and value > 0, "milliseconds above 0"),
    "periods": (
        lambda value: isinstance(value, (str, Periods)),
        "the name of a date/time column, or vrelko.Periods('caught_at')",
    ),
    "secrets": (_is_secrets, "a list: secrets=[b'…']"),
    "expires_s": (is_number, "seconds above 0"),
    "expose": (lambda value: isinstance(value, bool) or _is_texts(value), "names, or True"),
    "unique": (_is_texts, "a list of names"),
    "max_offset": (_is_count, "a whole number of rows"),
    "workload": (_is_workload, "a vrelko.Workload"),
    "anchor_file": (lambda value: isinstance(value, (str, PurePath)), "the path of a file"),
    "steady": (lambda value: isinstance(value, Steady), "a vrelko.Steady"),
}
"""By argument: what fits, None too but for those needed; and what to give."""
