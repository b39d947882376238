"""Values as text, read as the type of the column that they are compared with."""

from __future__ import annotations

import enum
import math
from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any
from uuid import UUID

from sqlalchemy.types import TypeEngine

_MOST_NUMBER = 2**63


def value_from_text(text: str, kind: TypeEngine[Any]) -> Any:
    """Return a text as a value of a column type; types that no text is read for stay text.

    Raises ValueError, which says what the text is not.
    """
    try:
        wanted = kind.python_type
    except NotImplementedError:
        wanted = str
    if issubclass(wanted, enum.Enum):
        # By name, as SQLAlchemy stores them.
        if text not in wanted.__members__:
            raise ValueError(f"is not one of {', '.join(wanted.__members__)}")
        return wanted[text]
    read = _READ.get(wanted)
    if read is None:
        return text
    try:
        if "_" in text:  # Python's own way of writing numbers
            raise ValueError(text)
        value = read(text)
    except (ValueError, InvalidOperation, OverflowError) as error:
        raise ValueError(f"is not {_NAMES[wanted]}") from error
    if isinstance(value, int) and not -_MOST_NUMBER <= value < _MOST_NUMBER:
        raise ValueError("is too large")
    return value


def _number(text: str) -> float:
    value = float(text)
    # "nan" and "inf" are floats to Python, and to no column.
    if not math.isfinite(value):
        raise ValueError(text)
    return value


def _whole(text: str) -> int:
    # Reading a number of a million digits takes Python minutes.
    if len(text) > 20:
        raise ValueError(text)
    return int(text)


def _decimal(text: str) -> Decimal:
    value = Decimal(text)
    if not value.is_finite() or abs(value.adjusted()) > 100:
        raise ValueError(text)
    return value


def _flag(text: str) -> bool:
    known = {"true": True, "1": True, "false": False, "0": False}
    if text.lower() not in known:
        raise ValueError(text)
    return known[text.lower()]


_READ: dict[type, Any] = {
    int: _whole, float: _number, Decimal: _decimal, bool: _flag, UUID: UUID,
    datetime: datetime.fromisoformat, date: date.fromisoformat, time: time.fromisoformat,
}  # fmt: skip
_NAMES = {
    int: "a whole number", float: "a number", Decimal: "a number", bool: "true or false",
    UUID: "a UUID", datetime: "an ISO 8601 date and time", date: "an ISO 8601 date",
    time: "an ISO 8601 time",
}  # fmt: skip
