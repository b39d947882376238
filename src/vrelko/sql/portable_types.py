"""Column types that engines share: what a type of one engine is on the others."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from sqlalchemy import (
    BigInteger,
    DateTime,
    Double,
    Float,
    Integer,
    Numeric,
    String,
    Table,
    Text,
    Time,
)
from sqlalchemy.dialects import mysql
from sqlalchemy.exc import ArgumentError
from sqlalchemy.types import TypeEngine

_MYSQL = ("mysql", "mariadb")
_OTHERS = ("sqlite", "postgresql", "mssql", "oracle")


def portable_type(type_: TypeEngine[Any]) -> TypeEngine[Any]:
    """Return a type that another engine has too, as wide as it can be there.

    One that no other engine has, and that is not known here, comes back as it is.
    """
    # Engines name their collations, and sets of words, each in their own way.
    if isinstance(type_, String):
        return String(type_.length) if type_.length else Text()
    if isinstance(type_, mysql.BIT):
        return BigInteger()
    if isinstance(type_, mysql.YEAR):
        return Integer()
    # PostgreSQL tells the bits of a double, and MariaDB asks for digits in that place.
    if isinstance(type_, Float):
        return Double()
    try:
        found = type_.as_generic()
    except NotImplementedError:
        return type_
    # Without a word MariaDB keeps whole seconds, and whole numbers.
    if isinstance(found, DateTime):
        return found.with_variant(mysql.DATETIME(fsp=6), *_MYSQL)
    if isinstance(found, Time):
        return found.with_variant(mysql.TIME(fsp=6), *_MYSQL)
    if isinstance(found, Numeric) and found.precision is None:
        return found.with_variant(mysql.DECIMAL(65, 30), *_MYSQL)
    return found


def fit_other_engines(table: Table) -> None:
    """Give a reflected table's types a form for other engines; on its own nothing changes.

    SQLAlchemy fails with errors of Python's where it has to adapt such types.
    """
    for one in table.columns:
        if isinstance(one.type, (mysql.SET, mysql.ENUM, mysql.BIT, mysql.YEAR)):
            one.type = _with_forms(one.type, portable_type(one.type), _OTHERS)
        elif isinstance(one.type, Float) and one.type.precision is not None:
            one.type = _with_forms(one.type, Double(), _MYSQL)


def _with_forms(
    type_: TypeEngine[Any], form: TypeEngine[Any], dialects: tuple[str, ...]
) -> TypeEngine[Any]:
    """Return a type that is another one on some dialects, but for those where it is one already."""
    for dialect in dialects:
        # What the user, or an earlier call, said of a dialect stays.
        with suppress(ArgumentError):
            type_ = type_.with_variant(form, dialect)
    return type_
