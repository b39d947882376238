"""The forms of key columns on each engine, by the type that the database has.

A type that is not named here is compared as its text (PostgreSQL) or as the model binds it.
"""

from __future__ import annotations

import struct
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
    cast,
    func,
    literal_column,
    type_coerce,
)
from sqlalchemy.dialects.postgresql import OID
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql.elements import UnaryExpression
from sqlalchemy.sql.operators import custom_op
from sqlalchemy.types import REAL, TypeEngine

from vrelko.core.stored import Stored
from vrelko.sql.keys import (
    NUMBERS,
    RAW,
    KeyColumn,
    Named,
    StoredValue,
    as_read,
    bound_as,
    changes_values,
    model_kind,
    plainly,
    raw,
    reader_of,
)

_PLUS: custom_op[Any] = custom_op("+", is_comparison=False)


def plain_key(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None
) -> KeyColumn:
    """Return the form for engines that statements are only written for."""
    kind = element.type
    if isinstance(kind, Enum):
        return KeyColumn(element, type_coerce(element, String()), kind)
    return KeyColumn(element, element, kind)


def doubts_unknown(stored: Stored | None) -> bool:
    """Tell whether nobody knows a type, so that the engine is asked once about its keys."""
    return stored is None


def doubts_untried(stored: Stored | None) -> bool:
    """Tell whether a type was never tried on PostgreSQL, or is not known at all."""
    return stored is None or stored.kind not in _TRIED


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


def sqlite_key(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None
) -> KeyColumn:
    """Each value has a type of its own: it is read and bound as it is stored."""
    kind = element.type
    # An expression in a row value loses its index on SQLite.
    alone = not isinstance(element, Column)
    if stored is not None and stored.mixed:
        # The sign changes no value, and takes away the conversion of what is compared.
        bare: ColumnElement[Any] = UnaryExpression(plainly(element), operator=_PLUS, type_=kind)
        bind = StoredValue(None, kind, (int, float, str, bytes))
        return KeyColumn(element, raw(element), bind, compared=bare, alone=True)
    impl = kind.dialect_impl(dialect)
    if isinstance(kind, Enum):
        # An Enum column may hold texts that the model's Enum does not know: they are keys too.
        bind = StoredValue(None, kind, (str,))
        return KeyColumn(element, raw(element), bind, alone=alone)
    # The model changes nothing on the way in or out, so it can be left to do so.
    processed = impl.bind_processor(dialect) or impl.result_processor(dialect, None)
    if not processed and not changes_values(kind):
        return KeyColumn(element, element, kind, alone=alone)
    takes = (int, float, str, bytes)
    # Decimals come as floats there: turned into Decimals they would no longer be what is stored.
    to_key = None if isinstance(kind, (Numeric, Float)) else reader_of(kind, dialect, takes)
    bind = StoredValue(None, kind, takes)
    return KeyColumn(element, raw(element), bind, to_key=to_key, alone=alone)


_POSTGRESQL: dict[str, tuple[type[TypeEngine[Any]], type[TypeEngine[Any]], tuple[type, ...]]] = {
    "smallint": (Integer, Integer, (int,)),
    "integer": (Integer, Integer, (int,)),
    "bigint": (BigInteger, Integer, (int,)),
    "oid": (OID, OID, (int,)),
    "double precision": (Double, Float, NUMBERS),
    "numeric": (Numeric, Numeric, NUMBERS),
    "text": (String, String, (str,)),
    "character varying": (String, String, (str,)),
    "boolean": (Boolean, Boolean, (bool,)),
    "bytea": (LargeBinary, LargeBinary, (bytes,)),
    "date": (Date, Date, (date, str)),
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


def postgresql_key(
    name: str, element: ColumnElement[Any], dialect: Dialect, stored: Stored | None
) -> KeyColumn:
    """Return the form of a term on PostgreSQL."""
    kind = element.type
    found = stored or _postgresql_model(kind, dialect)
    if found.rounded:
        return _by_bytes(element, found.kind)
    if found.as_text:
        return _by_text(element, kind, found.kind)
    # A real is compared as the double it is read as, and cast back for the index.
    if found.kind == "real":
        return bound_as(element, Double(), (Float,), NUMBERS, (REAL(),))
    if found.kind in ("timestamp with time zone", "timestamp without time zone"):
        # With the other kind PostgreSQL would convert by the session's zone, hour by hour.
        zoned = "with " in found.kind
        return bound_as(element, DateTime(timezone=zoned), (DateTime,), (datetime, str))
    if found.kind in _POSTGRESQL:
        target, models, takes = _POSTGRESQL[found.kind]
        return bound_as(element, target(), (models,), takes)
    if stored is None and found.kind not in _AS_TEXT:  # no database says what it is
        inner: TypeEngine[Any] = kind
        if isinstance(kind, TypeDecorator) and not isinstance(kind, Interval):
            inner = kind.impl_instance
        if isinstance(kind, Enum):
            return KeyColumn(element, type_coerce(element, String()), kind)
        return KeyColumn(element, element if inner is kind else type_coerce(element, inner), inner)
    # Read as money it is text in the locale's own way; as a number it is exact.
    if found.kind == "money":
        amount = StoredValue(Numeric(), None, (Decimal,))
        return KeyColumn(element, cast(element, Numeric()), amount, (Numeric(), Named("money")))
    text = StoredValue(Text(), None if isinstance(kind, Interval) else kind, (str,))
    exact = found.exact or found.kind
    if exact == "bit":  # which alone is bit(1)
        exact = "bit varying"
    if found.kind == "interval":
        text, exact = _Spelled(), "interval"
    # Compared as its own type: as text, trailing blanks would count.
    if found.kind in ("character", "name"):
        exact = "bpchar" if found.kind == "character" else "name"
        return KeyColumn(element, as_read(element, (String,)), text, (Named(exact),))
    read = cast(element, Text())
    return KeyColumn(element, read, text, (Named(exact),), composite=found.composite)


def _by_bytes(element: ColumnElement[Any], kind: str) -> KeyColumn:
    """Floating-point numbers whose digits the session cuts: by the bytes that they are sent as."""
    real = kind == "real"
    form = struct.Struct(">f" if real else ">d")
    send = func.float4send(element) if real else func.float8send(element)

    def to_key(value: Any) -> Any:
        return None if value is None else form.unpack(bytes(value))[0]

    bind = StoredValue(Double(), None, NUMBERS)
    casts: tuple[TypeEngine[Any], ...] = (REAL(),) if real else ()
    return KeyColumn(element, type_coerce(send, RAW), bind, casts, to_key=to_key)


def _by_text(element: ColumnElement[Any], model: TypeEngine[Any], kind: str) -> KeyColumn:
    """Dates and moments that a driver cannot read, such as infinity: as JSON writes them.

    Whatever the session's DateStyle is.
    """
    whole: ColumnElement[Any] = literal_column("'{}'", RAW)
    read: ColumnElement[Any] = func.to_json(element).op("#>>")(whole)
    return KeyColumn(element, type_coerce(read, Text()), _Written(), (Named(kind),))


class _Written(StoredValue):
    """Text of a date or moment; those of Python are written as one."""

    cache_ok = True

    def __init__(self) -> None:
        super().__init__(Text(), None, (str,))

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the text to compare with."""
        return value.isoformat() if isinstance(value, date) else value


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
    # PostgreSQL makes a real of float(24) and less.
    if found.kind == "float" and (getattr(kind, "precision", None) or 53) <= 24:
        named = "real"
    return Stored(named, collation=found.collation)
