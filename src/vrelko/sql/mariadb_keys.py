"""MariaDB's forms of key columns, by the type that the database has."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from sqlalchemy import (
    BigInteger,
    Boolean,
    ColumnElement,
    Double,
    Float,
    Integer,
    Interval,
    LargeBinary,
    Numeric,
    String,
    Time,
    TypeDecorator,
    case,
    cast,
    func,
    literal_column,
    type_coerce,
)
from sqlalchemy.dialects.mysql import INTEGER, TIME
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.types import TypeEngine

from vrelko.core.stored import Stored
from vrelko.errors import OrderError
from vrelko.sql.keys import (
    NUMBERS,
    RAW,
    KeyColumn,
    StoredValue,
    as_read,
    bound_as,
    changes_values,
    model_kind,
    raw,
    reader_of,
)

_AWAY = 7_200
UNSIGNED = INTEGER(unsigned=True)
USUAL_BYTES = 1_024
"""Bytes of a value that MariaDB's sorting looks at, unless max_sort_length says otherwise."""


def mariadb_key(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None
) -> KeyColumn:
    """Say how MariaDB reads and binds an order term. Raises OrderError for CHAR without padding."""
    kind = element.type
    found = stored or model_kind(kind, dialect)
    form = _MARIADB.get(found.kind)
    if form is not None:
        return form(element, kind)
    if found.kind == "char" and not found.pads:
        raise OrderError(
            f"the column {name!r} is CHAR with the collation {found.collation}, which is sorted "
            "as if filled up with blanks and compared as if not",
            f"Order by func.concat({name}), or make the column VARCHAR",
            "order-type",
        )
    if found.kind in _TEXTS:
        return _mariadb_text(element, kind, found)
    # What a model changes on the way in or out is read raw and bound raw.
    processed = isinstance(kind, (TypeDecorator, Boolean, Numeric, Float, Time, LargeBinary))
    processed = processed or changes_values(kind)
    if not processed or (isinstance(kind, Interval) and found.kind == "datetime"):
        return KeyColumn(element, element, kind)
    if isinstance(kind, LargeBinary) and dialect.driver == "aiomysql":
        return KeyColumn(element, raw(element), _Hexadecimal())
    takes: tuple[type, ...] = (int, float, Decimal, str, bytes, date, UUID)
    if isinstance(kind, Boolean):
        takes = (int,)
    to_key = reader_of(kind, dialect, takes) if isinstance(kind, Boolean) else None
    return KeyColumn(element, raw(element), StoredValue(None, kind, takes), to_key=to_key)


_TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "nchar", "nvarchar")


def _mariadb_text(element: ColumnElement[Any], kind: TypeEngine[Any], found: Stored) -> KeyColumn:
    """Sorting looks at the beginning of a text alone: where more may follow, so do keys."""
    text = StoredValue(String(), kind, (str,))
    known = found.length if found.length is not None else 10**9 if "text" in found.kind else 0
    # Sorting looks at so many characters; comparing looks at all, and would skip rows.
    sorted_ = sorted_characters(found.collation, found.sorts or USUAL_BYTES)
    if known > sorted_:
        begins: ColumnElement[Any] = type_coerce(
            func.left(element, literal_column(str(sorted_))), String()
        )
        return KeyColumn(begins, begins, text)
    return KeyColumn(element, as_read(element, (String,)), text)


def sorted_characters(collation: str, bytes_: int) -> int:
    """Return the characters of a text that sorting surely looks at, out of its first `bytes_`.

    Measured (docs/values.md): four bytes a character, eight where fewer than usual are looked at
    and a letter may count as several; sixteen for each level of a collation that tells accents or
    case apart beside letters, which it does for all letters first.
    """
    name = collation.lower()
    levels = 1 + name.endswith(("_as_ci", "_ai_cs", "_w2")) + 2 * name.endswith("_as_cs")
    if levels > 1:
        return max(bytes_ // (16 * levels), 1)
    return max(bytes_ // (4 if bytes_ >= USUAL_BYTES else 8) - 1, 1)


def _float(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """FLOAT comes out rounded to six digits: as a double it is exact."""
    # Adding a double zero makes the server hand over all digits.
    exact: ColumnElement[Any] = type_coerce(element, Double()) + literal_column("0e0", Double())
    return KeyColumn(element, exact, StoredValue(Double(), kind, NUMBERS))


def _double(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    return bound_as(element, Double(), (Float,), NUMBERS)


def _decimal(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    return KeyColumn(element, as_read(element, (Numeric,)), StoredValue(None, kind, NUMBERS))


def _by_number(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """ENUM and SET are sorted by number but compared as text; BIT comes out as bytes."""
    # What the server sorts by; adding zero would make a double of it, too coarse for 64 members.
    number: ColumnElement[Any] = cast(type_coerce(element, RAW), UNSIGNED)
    return KeyColumn(number, type_coerce(number, BigInteger()), BigInteger())


def _time(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """TIME goes beyond a day and below 0, which Python's does not: compared as text."""
    return KeyColumn(element, cast(element, String(17)), _Clock(), (TIME(fsp=6),))


class _Hexadecimal(StoredValue):
    """Bytes for a driver that cannot send any: by their digits."""

    cache_ok = True

    def __init__(self) -> None:
        super().__init__(String(), None, (str,))

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the digits to compare with."""
        return None if value is None else bytes(value).hex()

    def bind_expression(self, bindvalue: Any) -> ColumnElement[Any]:
        """Return the bytes of the digits."""
        return func.unhex(bindvalue)


class _Clock(StoredValue):
    """Text of a TIME; times and timedeltas are written as one."""

    cache_ok = True

    def __init__(self) -> None:
        super().__init__(String(), None, (str,))

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the text to compare with."""
        if isinstance(value, time):
            return value.isoformat()
        if isinstance(value, timedelta):
            # Whole microseconds: seconds as a float would lose some of them.
            micros = abs(value) // timedelta(microseconds=1)
            seconds, micros = divmod(micros, 10**6)
            sign = "-" if value < timedelta(0) else ""
            return f"{sign}{seconds // 3600}:{seconds // 60 % 60:02}:{seconds % 60:02}.{micros:06}"
        return super().process_bind_param(value, dialect)


def _by_epoch(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """TIMESTAMP, which is read by the session's clock: by seconds since 1970, alike in every zone.

    Where summer time ends an hour of the clock comes twice, its seconds come once. The plain bounds
    are for the index, and by the clock: the moment itself where no clock jumps within two hours of
    it, else two hours away, further than any does.
    """

    def clock(seconds: ColumnElement[Any], away: int) -> ColumnElement[Any]:
        moment = seconds + literal_column(str(away), Integer()) if away else seconds
        return func.from_unixtime(moment)

    def near(seconds: ColumnElement[Any], away: int) -> ColumnElement[Any]:
        unit: ColumnElement[Any] = literal_column("SECOND")
        # Asked of the server itself: it alone knows its zone's rules for that year.
        around = func.timestampdiff(unit, clock(seconds, -_AWAY), clock(seconds, _AWAY))
        # No clock jumps here if four hours of the clock are four hours.
        still = around == literal_column(str(2 * _AWAY), Integer())
        return case((still, clock(seconds, 0)), else_=clock(seconds, away))

    def low(seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        return near(seconds, -_AWAY)

    def high(seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        return near(seconds, _AWAY)

    epoch = type_coerce(func.unix_timestamp(element), Numeric(20, 6))
    moments = StoredValue(Numeric(20, 6), None, (Decimal, int))
    return KeyColumn(
        element,
        epoch,
        moments,
        compared=epoch,
        low=low,
        high=high,
        from_clock=lambda moment: type_coerce(func.unix_timestamp(moment), Numeric(20, 6)),
    )


_MARIADB: dict[str, Callable[[ColumnElement[Any], TypeEngine[Any]], KeyColumn]] = {
    "float": _float,
    "double": _double,
    "real": _double,
    "decimal": _decimal,
    "numeric": _decimal,
    "enum": _by_number,
    "set": _by_number,
    "bit": _by_number,
    "time": _time,
    "timestamp": _by_epoch,
}
