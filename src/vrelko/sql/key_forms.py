"""The forms of key columns, one table an engine: by the type that the database has.

A type that is not named here is compared as its text (PostgreSQL) or as the model binds it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    ColumnElement,
    Date,
    DateTime,
    Double,
    Enum,
    Float,
    Integer,
    Interval,
    LargeBinary,
    Numeric,
    String,
    Text,
    Time,
    TypeDecorator,
    Uuid,
    case,
    cast,
    func,
    literal_column,
    type_coerce,
)
from sqlalchemy.dialects.mysql import TIME
from sqlalchemy.dialects.postgresql import OID
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.types import REAL, TypeEngine

from vrelko.core.stored import Stored
from vrelko.errors import OrderError
from vrelko.sql.keys import KeyColumn, Named, StoredValue, model_kind, raw, reader_of

_NUMBERS = (int, float, Decimal)
_AWAY = 7_200
_SORTED_CHARACTERS = 255
"""Characters of a text that MariaDB's sorting surely looks at (max_sort_length, 1,024 bytes)."""


def key_column(
    name: str,
    element: ColumnElement[Any],
    dialect: Dialect,
    stored: Stored | None = None,
    moving: bool = False,
) -> KeyColumn:
    """Return how an order term is read and bound on an engine.

    `stored`: what the database says of its type; `moving`: the session's clock has summer time.
    Raises OrderError for values that no statement can compare as they are sorted.
    """
    form = _FORMS.get("mariadb" if dialect.name == "mysql" else dialect.name)
    if form is None:  # statements are only written for it
        kind = element.type
        if isinstance(kind, Enum):
            return KeyColumn(element, type_coerce(element, String()), kind)
        return KeyColumn(element, element, kind)
    return form(name, element, dialect, stored, moving)


def is_doubtful(stored: Stored | None, dialect: Dialect) -> bool:
    """Tell whether a type was never tried here, so that the engine is asked once about its keys."""
    if dialect.name == "postgresql":
        return stored is None or stored.kind not in _TRIED
    return stored is None and dialect.name in ("mariadb", "mysql")


_TRIED = frozenset(
    {
        "smallint",
        "integer",
        "bigint",
        "oid",
        "real",
        "double precision",
        "numeric",
        "money",
        "text",
        "character varying",
        "character",
        "name",
        "citext",
        "boolean",
        "bytea",
        "bit",
        "bit varying",
        "date",
        "time without time zone",
        "time with time zone",
        "timestamp without time zone",
        "timestamp with time zone",
        "interval",
        "uuid",
        "inet",
        "cidr",
        "macaddr",
        "int4range",
        "tsvector",
    }
)
"""PostgreSQL's types that tests walk, value by value."""


def _sqlite(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None, moving: bool
) -> KeyColumn:
    """Each value has a type of its own: it is read and bound as it is stored."""
    kind = element.type
    alone = not isinstance(element, Column)
    impl = kind.dialect_impl(dialect)
    if isinstance(kind, Enum):
        bind = StoredValue(None, kind, (str,))
        return KeyColumn(element, raw(element), bind, alone=alone)
    if impl.bind_processor(dialect) is None and impl.result_processor(dialect, None) is None:
        return KeyColumn(element, element, kind, alone=alone)
    takes = (int, float, str, bytes)
    to_key = None if isinstance(kind, (Numeric, Float)) else reader_of(kind, dialect, takes)
    bind = StoredValue(None, kind, takes)
    return KeyColumn(element, raw(element), bind, to_key=to_key, alone=alone)


_POSTGRESQL: dict[str, tuple[type[TypeEngine[Any]], type[TypeEngine[Any]], tuple[type, ...]]] = {
    "smallint": (Integer, Integer, (int,)),
    "integer": (Integer, Integer, (int,)),
    "bigint": (BigInteger, Integer, (int,)),
    "oid": (OID, OID, (int,)),
    "double precision": (Double, Float, _NUMBERS),
    "numeric": (Numeric, Numeric, _NUMBERS),
    "text": (String, String, (str,)),
    "character varying": (String, String, (str,)),
    "boolean": (Boolean, Boolean, (bool,)),
    "bytea": (LargeBinary, LargeBinary, (bytes,)),
    "date": (Date, Date, (date,)),
    "time without time zone": (Time, Time, (time,)),
    "uuid": (Uuid, Uuid, (UUID,)),
}
"""By PostgreSQL's type: what binds it, which model types read it exactly, values that are it."""

_AS_TEXT = frozenset(
    {
        "money",
        "interval",
        "character",
        "name",
        "inet",
        "cidr",
        "macaddr",
        "bit",
        "bit varying",
        "int4range",
        "int8range",
        "numrange",
        "daterange",
        "tsrange",
        "tstzrange",
        "citext",
        "time with time zone",
    }
)
"""Types that are compared otherwise than they are read, where only a model names them."""

_ALIASES = {
    "float": "double precision", "double": "double precision", "real": "real",
    "varchar": "character varying", "char": "character", "decimal": "numeric",
    "timestamp": "timestamp without time zone", "time": "time without time zone",
    "datetime": "timestamp without time zone", "tinyint": "smallint", "blob": "bytea",
}  # fmt: skip
"""What models' types are created as, under the catalog's names."""


def _postgresql(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None, moving: bool
) -> KeyColumn:
    kind = element.type
    found = stored or _postgresql_model(kind, dialect)
    if found.kind == "real":
        return _bound(element, Double(), (Float,), _NUMBERS, (REAL(),))
    if found.kind in ("timestamp with time zone", "timestamp without time zone"):
        zoned = "with " in found.kind
        return _bound(element, DateTime(timezone=zoned), (DateTime,), (datetime,))
    if found.kind in _POSTGRESQL:
        target, models, takes = _POSTGRESQL[found.kind]
        return _bound(element, target(), (models,), takes)
    if stored is None and found.kind not in _AS_TEXT:  # no database says what it is
        inner: TypeEngine[Any] = kind
        if isinstance(kind, TypeDecorator) and not isinstance(kind, Interval):
            inner = kind.impl_instance
        if isinstance(kind, Enum):
            return KeyColumn(element, type_coerce(element, String()), kind)
        return KeyColumn(element, element if inner is kind else type_coerce(element, inner), inner)
    if found.kind == "money":
        amount = StoredValue(Numeric(), None, (Decimal,))
        return KeyColumn(element, cast(element, Numeric()), amount, (Numeric(), Named("money")))
    text = StoredValue(Text(), None if isinstance(kind, Interval) else kind, (str,))
    exact = found.exact or found.kind
    if exact == "bit":  # which alone is bit(1)
        exact = "bit varying"
    if found.kind == "interval":
        text, exact = _Spelled(), "interval"
    if found.kind in ("character", "name"):
        exact = "bpchar" if found.kind == "character" else "name"
        return KeyColumn(element, _as_read(element, (String,)), text, (Named(exact),))
    return KeyColumn(element, cast(element, Text()), text, (Named(exact),))


class _Spelled(StoredValue):
    """Text of an interval; a timedelta is written as one."""

    cache_ok = True

    def __init__(self) -> None:
        super().__init__(Text(), None, (str,))

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the text to compare with."""
        if isinstance(value, timedelta):
            parts = value.days, value.seconds, value.microseconds
            return "{} days {} seconds {} microseconds".format(*parts)
        return super().process_bind_param(value, dialect)


def _postgresql_model(kind: TypeEngine[Any], dialect: Dialect) -> Stored:
    found = model_kind(kind, dialect)
    named = _ALIASES.get(found.kind, found.kind)
    if found.kind == "float" and (getattr(kind, "precision", None) or 53) <= 24:
        named = "real"
    return Stored(named, collation=found.collation)


def _bound(
    element: ColumnElement[Any],
    target: TypeEngine[Any],
    models: tuple[type[TypeEngine[Any]], ...],
    takes: tuple[type, ...],
    casts: tuple[TypeEngine[Any], ...] = (),
) -> KeyColumn:
    """Return a key bound as `target`; where the model reads the very values, without a detour."""
    read = _as_read(element, models)
    bind = target if read is element else StoredValue(target, element.type, takes)
    return KeyColumn(element, read, bind, casts)


def _as_read(
    element: ColumnElement[Any], models: tuple[type[TypeEngine[Any]], ...]
) -> ColumnElement[Any]:
    """Return the element where its model's type reads the very values, else as the driver does."""
    kind: Any = element.type
    exact = isinstance(kind, models) and not isinstance(kind, (TypeDecorator, Enum))
    exact = exact and kind.__visit_name__ != "SET"  # a text that is read as a set
    decimals = getattr(kind, "asdecimal", None)
    if decimals is not None:  # numbers that come as they are, not by way of another type
        floats = isinstance(kind, Float)  # which is a Numeric too before SQLAlchemy 2.1
        exact = exact and decimals != floats and (Float if floats else Numeric) in models
    if isinstance(kind, Uuid):
        exact = exact and kind.as_uuid
    return element if exact else raw(element)


def _mariadb(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None, moving: bool
) -> KeyColumn:
    kind = element.type
    found = stored or model_kind(kind, dialect)
    form = _MARIADB.get(found.kind)
    if form is not None:
        return form(element, kind)
    if found.kind == "timestamp" and moving:
        return _by_epoch(element)
    if found.kind == "char" and not found.pads:
        raise OrderError(
            f"the column {name!r} is CHAR with the collation {found.collation}, which is sorted "
            "as if filled up with blanks and compared as if not",
            f"Order by func.concat({name}), or make the column VARCHAR",
            "order-type",
        )
    if found.kind in _TEXTS:
        return _mariadb_text(element, kind, found)
    processed = isinstance(kind, (TypeDecorator, Boolean, Numeric, Float, Time))
    if not processed or (isinstance(kind, Interval) and found.kind == "datetime"):
        return KeyColumn(element, element, kind)
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
    if known > _SORTED_CHARACTERS:
        begins: ColumnElement[Any] = type_coerce(
            func.left(element, literal_column(str(_SORTED_CHARACTERS))), String()
        )
        return KeyColumn(begins, begins, text)
    return KeyColumn(element, _as_read(element, (String,)), text)


def _float(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """FLOAT comes out rounded to six digits: as a double it is exact."""
    exact: ColumnElement[Any] = type_coerce(element, Double()) + literal_column("0e0", Double())
    return KeyColumn(element, exact, StoredValue(Double(), kind, _NUMBERS))


def _double(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    return _bound(element, Double(), (Float,), _NUMBERS)


def _decimal(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    return KeyColumn(element, _as_read(element, (Numeric,)), StoredValue(None, kind, _NUMBERS))


def _by_number(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """ENUM and SET are sorted by number but compared as text; BIT comes out as bytes."""
    number: ColumnElement[Any] = type_coerce(element, Integer()) + literal_column("0", Integer())
    return KeyColumn(number, number, Integer())


def _time(element: ColumnElement[Any], kind: TypeEngine[Any]) -> KeyColumn:
    """TIME goes beyond a day and below 0, which Python's does not: compared as text."""
    return KeyColumn(element, cast(element, String(17)), _Clock(), (TIME(fsp=6),))


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
            micros = abs(value) // timedelta(microseconds=1)
            seconds, micros = divmod(micros, 10**6)
            sign = "-" if value < timedelta(0) else ""
            return f"{sign}{seconds // 3600}:{seconds // 60 % 60:02}:{seconds % 60:02}.{micros:06}"
        return super().process_bind_param(value, dialect)


def _by_epoch(element: ColumnElement[Any]) -> KeyColumn:
    """TIMESTAMP in a zone with summer time: an hour comes twice, but its seconds since 1970 once.

    The plain bounds are for the index, and by the clock: the moment itself where no clock jumps
    within two hours of it, else two hours away, further than any does.
    """

    def clock(seconds: ColumnElement[Any], away: int) -> ColumnElement[Any]:
        moment = seconds + literal_column(str(away), Integer()) if away else seconds
        return func.from_unixtime(moment)

    def near(seconds: ColumnElement[Any], away: int) -> ColumnElement[Any]:
        unit: ColumnElement[Any] = literal_column("SECOND")
        around = func.timestampdiff(unit, clock(seconds, -_AWAY), clock(seconds, _AWAY))
        still = around == literal_column(str(2 * _AWAY), Integer())
        return case((still, clock(seconds, 0)), else_=clock(seconds, away))

    def low(seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        return near(seconds, -_AWAY)

    def high(seconds: ColumnElement[Any]) -> ColumnElement[Any]:
        return near(seconds, _AWAY)

    epoch = type_coerce(func.unix_timestamp(element), Numeric(20, 6))
    moments = StoredValue(Numeric(20, 6), None, (Decimal, int))
    return KeyColumn(element, epoch, moments, compared=epoch, low=low, high=high)


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
}

_FORMS: dict[str, Callable[[str, ColumnElement[Any], Dialect, Stored | None, bool], KeyColumn]] = {
    "sqlite": _sqlite,
    "postgresql": _postgresql,
    "mariadb": _mariadb,
}
