"""Column types of a model that compare, read or write values in ways of their own."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import Integer, String, TypeDecorator, func
from sqlalchemy.types import DateTime, UserDefinedType


class Folded(String.Comparator):
    """Compares texts without their case: SQLAlchemy's own example of a comparator."""

    def operate(self, op, other=None, **more):
        if other is None:
            return op(func.lower(self.expr), **more)
        return op(func.lower(self.expr), func.lower(other), **more)


class Mail(TypeDecorator):
    """The e-mail type of the recipe: lower case on the way in, compared without case."""

    impl = String(40)
    cache_ok = True
    comparator_factory = Folded

    def process_bind_param(self, value, dialect):
        return None if value is None else value.lower()


class Compared(String):
    """A subclass that changes comparisons alone."""

    cache_ok = True
    comparator_factory = Folded


class Shouted(String):
    """A subclass that converts in Python: upper case in rows, lower case in the table."""

    cache_ok = True

    def bind_processor(self, dialect):
        return lambda value: None if value is None else value.lower()

    def result_processor(self, dialect, coltype):
        return lambda value: None if value is None else value.upper()


class Lowered(String):
    """A subclass that converts in SQL."""

    cache_ok = True

    def bind_expression(self, bindvalue):
        return func.lower(bindvalue)

    def column_expression(self, column):
        return func.upper(column)


class OwnText(UserDefinedType):
    """A type of one's own, which converts in SQL and in Python."""

    cache_ok = True

    def get_col_spec(self, **_):
        return "VARCHAR(40)"

    def column_expression(self, column):
        return func.lower(column)

    def result_processor(self, dialect, coltype):
        return lambda value: None if value is None else f"<{value}>"


class Shifted(Integer):
    """A subclass whose numbers are ten more in Python."""

    cache_ok = True

    def bind_processor(self, dialect):
        return lambda value: None if value is None else value - 10

    def result_processor(self, dialect, coltype):
        return lambda value: None if value is None else value + 10


class Negated(TypeDecorator):
    """Compares numbers the other way round."""

    impl = Integer
    cache_ok = True

    class comparator_factory(Integer.Comparator):
        def operate(self, op, *other, **more):
            return op(-self.expr, *(-one for one in other), **more)


class Later(DateTime):
    """A subclass whose moments are an hour later in Python."""

    cache_ok = True

    def bind_processor(self, dialect):
        inner = DateTime().dialect_impl(dialect).bind_processor(dialect)
        return lambda value: (
            None if value is None else (inner or (lambda same: same))(value - timedelta(hours=1))
        )

    def result_processor(self, dialect, coltype):
        inner = DateTime().dialect_impl(dialect).result_processor(dialect, coltype)
        return lambda value: (
            None if value is None else (inner or (lambda same: same))(value) + timedelta(hours=1)
        )
