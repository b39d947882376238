"""Key columns: how the values of an order are read and bound again, exactly, on each engine.

What counts is the type that the database has, not the one that a model gives it: the catalog says
it where it was asked (`Stored`), else it is the type that the model's would be created as. Each
form here was measured (docs/values.md).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from sqlalchemy import (
    Column,
    ColumnElement,
    Date,
    DateTime,
    Enum,
    Float,
    Numeric,
    TypeDecorator,
    Uuid,
    and_,
    bindparam,
    cast,
    type_coerce,
)
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import CompileError
from sqlalchemy.types import NullType, TypeEngine, UserDefinedType

from vrelko.core.stored import Stored
from vrelko.sql.sources import same

NUMBERS = (int, float, Decimal)
"""Values that are numbers as they are."""

Convert = Callable[[Any], Any]
Bound = Callable[[ColumnElement[Any]], ColumnElement[Any]]


class StoredValue(TypeDecorator[Any]):
    """A value as it is stored: those of `takes` go as they are, others as the model writes them.

    `target` is the type to bind as, `kind` the model's type.
    """

    impl = NullType
    cache_ok = True

    def __init__(
        self,
        target: TypeEngine[Any] | None = None,
        kind: TypeEngine[Any] | None = None,
        takes: tuple[type, ...] = (),
    ) -> None:
        super().__init__()
        self.target = target
        self.kind = kind
        self.takes = takes

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[Any]:
        """Return the type that binds."""
        return dialect.type_descriptor(self.target or NullType())

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the value to compare with. Raises TypeError for one that nothing can write."""
        # What the database handed over goes back as it came.
        if value is None or isinstance(value, self.takes):
            return value
        write = None
        if self.kind is not None:
            write = self.kind.dialect_impl(dialect).bind_processor(dialect)
        # A model that writes nothing of its own gets the value untouched, where anything goes.
        if write is None:
            if self.takes:
                raise TypeError(f"a {type(value).__name__} cannot be compared here")
            return value
        return write(value)

    @property
    def python_type(self) -> type:
        """The type of the model's values, where it says one."""
        return (self.target or self.kind or NullType()).python_type


class Named(UserDefinedType[Any]):
    """A type that goes by a database's own name alone, to cast to."""

    cache_ok = True

    def __init__(self, name: str) -> None:
        self.name = name

    def get_col_spec(self, **_: Any) -> str:
        """Return the name."""
        return self.name


@dataclass(frozen=True)
class KeyColumn:
    """One term of an order on one engine.

    `element` is ordered by, `read` selected for the key (the element itself where nothing is
    special), `bind` the type of its parameter, `casts` the types it is cast to in SQL, one after
    the other; `compared` is compared with it (the element where None). `low` and `high` make plain
    bounds of a parameter, for an index, where what is compared has none. `to_key` turns what was
    read into the key's value, `alone` says that an index is lost when the term joins a row value.
    `composite`: its values are rows of fields. `from_clock` makes a key's value of a moment by the
    session's clock, where keys are not such moments.
    """

    element: ColumnElement[Any]
    read: ColumnElement[Any]
    bind: TypeEngine[Any]
    casts: tuple[TypeEngine[Any], ...] = ()
    compared: ColumnElement[Any] | None = None
    low: Bound | None = None
    high: Bound | None = None
    to_key: Convert | None = None
    alone: bool = False
    composite: bool = False
    from_clock: Bound | None = None

    @property
    def is_null(self) -> ColumnElement[bool]:
        """The condition that a row has no value; `IS NULL` holds for rows of NULLs as well."""
        element = plainly(self.element)
        return element.is_not_distinct_from(None) if self.composite else element.is_(None)

    @property
    def is_filled(self) -> ColumnElement[bool]:
        """The condition that a row has a value."""
        element = plainly(self.element)
        return element.is_distinct_from(None) if self.composite else element.is_not(None)

    def parameter(self, name: str) -> ColumnElement[Any]:
        """Return the parameter to compare with."""
        bound: ColumnElement[Any] = bindparam(name, type_=self.bind)
        # A parameter is untyped text on PostgreSQL: the cast says what it is compared as.
        for kind in self.casts:
            bound = cast(bound, kind)
        return bound

    @property
    def sought(self) -> ColumnElement[Any]:
        """What is compared with the parameter."""
        return self.element if self.compared is None else self.compared

    def equals(self, name: str) -> ColumnElement[bool]:
        """Return the condition that a row has the key's value."""
        bound, element = self.parameter(name), plainly(self.element)
        condition = plainly(self.sought) == bound
        # Without plain bounds the comparison itself is what an index serves.
        if self.low is None or self.high is None:
            return condition
        return and_(element >= self.low(bound), element <= self.high(bound), condition)

    def beyond(self, name: str, descending: bool) -> ColumnElement[bool]:
        """Return the condition that a row's value comes behind the key's."""
        bound, element, sought = self.parameter(name), plainly(self.element), plainly(self.sought)
        if descending:
            condition = sought < bound
            return condition if self.high is None else and_(element <= self.high(bound), condition)
        condition = sought > bound
        return condition if self.low is None else and_(element >= self.low(bound), condition)


_TOLD = (bool, datetime, date, time, timedelta, UUID)
"""Types of models that keys show: a cursor can hold them, and none is a stored value's own."""

RAW = NullType()
"""The type of values that are read just as the driver gives them."""


def raw(element: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return an expression that is read as the driver gives it."""
    return type_coerce(element, RAW)


def plainly(element: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return an expression whose operators are the database's own, whatever its type makes of them.

    A model's type may write `a = b` as `lower(a) = lower(b)`, while ORDER BY sorts by `a` itself.
    """
    factory = element.type.comparator_factory
    return element if _is_sqlalchemys(factory) else raw(element)


_CONVERSIONS = ("bind_processor", "result_processor", "bind_expression", "column_expression")


def changes_values(kind: TypeEngine[Any]) -> bool:
    """Tell whether a type converts values in a way that SQLAlchemy does not have by itself."""
    kinds = (kind, *getattr(kind, "_variant_mapping", {}).values())
    classes = [one for each in kinds for one in type(each).__mro__ if not _is_sqlalchemys(one)]
    return any(name in vars(one) for one in classes for name in _CONVERSIONS)


def _is_sqlalchemys(one: Any) -> bool:
    return str(one.__module__).startswith("sqlalchemy.")


def model_kind(kind: TypeEngine[Any], dialect: Dialect) -> Stored:
    """Return the type that a column of a model's type would be created with."""
    try:
        # The model is asked in the database's own words: it is what CREATE TABLE would say.
        name = kind.compile(dialect=dialect)
    except (CompileError, NotImplementedError):
        return Stored("")
    word, bracket, rest = name.partition("(")
    # Only the type itself; what stands behind it is told elsewhere.
    word = word.partition(" CHARACTER SET ")[0].partition(" COLLATE ")[0].strip().lower()
    first = rest.partition(")")[0].partition(",")[0]
    if word == "float" and bracket and first.isdigit() and int(first) > 24:
        word = "double"
    own = getattr(kind, "collation", None) or ""
    length = getattr(kind, "length", None)
    return Stored(word, collation=own, length=length if isinstance(length, int) else None)


def reader_of(kind: TypeEngine[Any], dialect: Dialect, takes: tuple[type, ...]) -> Convert | None:
    """Return what turns a stored value into the model's, where that is written back the same.

    And where it is told from stored ones, which are of the types `takes`.
    """
    impl = kind.dialect_impl(dialect)
    # Only a type that converts both ways can show its values in a key.
    read, write = impl.result_processor(dialect, None), impl.bind_processor(dialect)
    if read is None or write is None:
        return None

    def to_key(value: Any) -> Any:
        if value is None:
            return None
        try:
            found = read(value)
            back = write(found)
        except (ValueError, TypeError, ArithmeticError, LookupError, AttributeError):
            return value
        # A value that is read as something else and back again must be told from a stored one.
        told = type(found) in _TOLD and (type(found) is bool or not isinstance(found, takes))
        return found if told and type(back) is type(value) and back == value else value

    return to_key


_AS_STORED = (int, str, date, datetime)


def bound_as(
    element: ColumnElement[Any],
    target: TypeEngine[Any],
    models: tuple[type[TypeEngine[Any]], ...],
    takes: tuple[type, ...],
    casts: tuple[TypeEngine[Any], ...] = (),
) -> KeyColumn:
    """Return a key bound as `target`; where the model reads the very values, without a detour."""
    read = as_read(element, models)
    bind = target if read is element else StoredValue(target, element.type, takes)
    return KeyColumn(element, read, bind, casts)


def as_read(
    element: ColumnElement[Any], models: tuple[type[TypeEngine[Any]], ...]
) -> ColumnElement[Any]:
    """Return the element where its model's type reads the very values, else as the driver does."""
    kind: Any = element.type
    exact = isinstance(kind, models) and not isinstance(kind, (TypeDecorator, Enum))
    exact = exact and not changes_values(kind)
    exact = exact and kind.__visit_name__ != "SET"  # a text that is read as a set
    decimals = getattr(kind, "asdecimal", None)
    if decimals is not None:  # numbers that come as they are, not by way of another type
        floats = isinstance(kind, Float)  # which is a Numeric too before SQLAlchemy 2.1
        exact = exact and decimals != floats and (Float if floats else Numeric) in models
    if isinstance(kind, Uuid):
        exact = exact and kind.as_uuid
    return element if exact else raw(element)


def is_moment(key: KeyColumn) -> bool:
    """Tell whether a key's values are dates or moments as the driver reads them."""
    return isinstance(getattr(key.bind, "target", key.bind), (Date, DateTime))


def is_exact(key: KeyColumn) -> bool:
    """Tell whether a key's column is compared with values just as they are read from it."""
    try:
        kind = key.bind.python_type
    except NotImplementedError:
        return False
    plain_column = isinstance(key.element, Column) and same(key.read, key.element)
    return plain_column and key.to_key is None and not key.alone and kind in _AS_STORED
