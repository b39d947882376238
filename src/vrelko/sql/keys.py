"""Key columns: how the values of an order are read and bound again, exactly, on each engine.

Most types come back as they went. The exceptions, each measured (docs/values.md): SQLite keeps
datetimes as text in more than one spelling and decimals as floats; PostgreSQL compares `real` with
a double unless the parameter is cast; MariaDB rounds FLOAT on its way out and sorts ENUM by number
but compares it as text.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    BindParameter,
    Column,
    ColumnElement,
    DateTime,
    Double,
    Enum,
    Float,
    Integer,
    Interval,
    Numeric,
    String,
    Time,
    TypeDecorator,
    bindparam,
    cast,
    literal_column,
    type_coerce,
)
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.types import REAL, TypeEngine

Convert = Callable[[Any], Any]


class StoredText(TypeDecorator[Any]):
    """Text as it is stored, for values of another type: text goes as it is, values are written.

    `write` turns a value of the column's type into the text SQLAlchemy stores.
    """

    impl = String
    cache_ok = True

    def __init__(self, kind: TypeEngine[Any] | None = None) -> None:
        super().__init__()
        self.kind = kind

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the text to compare with."""
        if value is None or isinstance(value, str) or self.kind is None:
            return value
        write = self.kind.dialect_impl(dialect).bind_processor(dialect)
        return value if write is None else write(value)


@dataclass(frozen=True)
class KeyColumn:
    """One term of an order on one engine.

    `element` is ordered by and compared, `read` selected for the key (the element itself where
    nothing is special), `bind` the type of its parameter, `casts` whether the parameter is cast in
    SQL, `to_key` turns what was read into the key's value, `alone` says that an index is lost when
    the term joins a row value.
    """

    element: ColumnElement[Any]
    read: ColumnElement[Any]
    bind: TypeEngine[Any]
    casts: bool = False
    to_key: Convert | None = None
    alone: bool = False

    def parameter(self, name: str) -> ColumnElement[Any]:
        """Return the parameter to compare the element with."""
        bound: BindParameter[Any] = bindparam(name, type_=self.bind)
        return cast(bound, self.element.type) if self.casts else bound


def key_column(element: ColumnElement[Any], dialect: Dialect) -> KeyColumn:
    """Return how an order term is read and bound on an engine."""
    kind = element.type
    engine = "mysql" if dialect.name == "mariadb" else dialect.name
    if engine == "sqlite" and isinstance(kind, (DateTime, Time)):
        return KeyColumn(
            element, type_coerce(element, String()), StoredText(kind), to_key=_reader(kind, dialect)
        )
    if engine == "mysql" and _is_enum(kind) and getattr(kind, "native_enum", True):
        number = element + literal_column("0", Integer())
        return KeyColumn(type_coerce(number, Integer()), type_coerce(number, Integer()), Integer())
    if _is_enum(kind):
        return KeyColumn(element, type_coerce(element, String()), kind)
    if engine == "sqlite" and isinstance(kind, Numeric) and not isinstance(kind, Float):
        return KeyColumn(element, type_coerce(element, Double()), Double())
    if engine == "postgresql" and isinstance(kind, REAL):
        return KeyColumn(element, element, kind, casts=True)
    if engine == "mysql" and _is_single(kind):
        exact: ColumnElement[Any] = type_coerce(element + literal_column("0e0", Double()), Double())
        return KeyColumn(element, exact, Double())
    if isinstance(kind, TypeDecorator) and not isinstance(kind, Interval):
        inner = kind.impl_instance
        return KeyColumn(element, type_coerce(element, inner), inner)
    collated = engine == "sqlite" and not isinstance(element, Column)
    return KeyColumn(element, element, kind, alone=collated)


def _reader(kind: TypeEngine[Any], dialect: Dialect) -> Convert:
    """Return what turns stored text into a value, where that value is written back the same."""
    read = kind.dialect_impl(dialect).result_processor(dialect, None)
    write = kind.dialect_impl(dialect).bind_processor(dialect)

    def to_key(text: Any) -> Any:
        if read is None or write is None or not isinstance(text, str):
            return text
        try:
            value = read(text)
        except ValueError:
            return text
        return value if write(value) == text else text

    return to_key


def _is_enum(kind: TypeEngine[Any]) -> bool:
    return isinstance(kind, Enum) or kind.__visit_name__ == "ENUM"


def _is_single(kind: TypeEngine[Any]) -> bool:
    """Tell whether a float type is of single precision on MariaDB."""
    if not isinstance(kind, Float) or isinstance(kind, Double):
        return False
    return "DOUBLE" not in kind.__visit_name__.upper() and (kind.precision or 24) <= 24
