"""Tables that others designed: the models of published packages, with made-up rows, in any order.

Only their schemas are taken. Each walk is held equal to one plain statement.
"""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from uuid import UUID

import pytest
from sqlalchemy import JSON, Enum, LargeBinary, PickleType, create_engine, insert, select
from sqlalchemy.exc import DatabaseError, StatementError

from drawn import STRATEGIES, Drawn, Place, truth_of
from exposed import Listing
from servers import missing
from vrelko import Sizes
from walks import everyway

ROWS = 40
ORDERS = 3  # a table
NAMES = ["ab", "Ab", "", "zeta", "é", "a'b", "x" * 60]


def optuna():
    from optuna.storages._rdb.models import BaseModel

    return BaseModel.metadata


def celery():
    from celery.backends.database.models import ResultModelBase

    return ResultModelBase.metadata


def apscheduler():
    from apscheduler.jobstores.sqlalchemy import SQLAlchemyJobStore

    engine = create_engine("sqlite://")
    table = SQLAlchemyJobStore(engine=engine).jobs_t
    engine.dispose()
    return table.metadata


PACKAGES = (optuna, celery, apscheduler)


def value_of(dice, column, number, held):
    """A value for a column: of a row that is there, where it refers to one."""
    for key in column.foreign_keys:
        others = held.get(key.column, [])
        return dice.choice(others) if others else None
    if column.nullable and dice.random() < 0.25:
        return None
    kind = column.type
    if isinstance(kind, Enum):
        return dice.choice(list(kind.enum_class) if kind.enum_class else kind.enums)
    if isinstance(kind, JSON):
        return {"n": dice.randrange(3)}
    if isinstance(kind, PickleType):
        return [dice.randrange(3)]
    if isinstance(kind, LargeBinary):
        return dice.randbytes(4)
    distinct = column.primary_key or column.unique
    made = {
        int: number if distinct else dice.randrange(6),
        float: dice.choice([0.1, -2.5, 1 / 3, 1e9, number / 7]),
        bool: dice.random() < 0.5,
        str: f"{dice.choice(NAMES)[:20]}{number if distinct else ''}",
        Decimal: Decimal(dice.randrange(9)),
        UUID: UUID(int=dice.randrange(2**100)),
        datetime: datetime(2026, 3, 1, tzinfo=UTC) + timedelta(minutes=dice.randrange(9)),
    }[kind.python_type]
    length = getattr(kind, "length", None)
    naive = isinstance(made, datetime) and not getattr(kind, "timezone", False)
    made = made.replace(tzinfo=None) if naive else made
    return made[:length] if isinstance(made, str) and length else made


def fill(dice, connection, table, held):
    """Insert rows, but for those that a constraint of the package's refuses."""
    for number in range(1, ROWS + 1):
        row = {c.key: value_of(dice, c, number, held) for c in table.c}
        try:
            with connection.begin_nested():
                connection.execute(insert(table), row)
        except (DatabaseError, StatementError):
            continue
        for column in table.c:
            held.setdefault(column, []).append(row[column.key])


def is_sortable(column):
    return not isinstance(column.type, (JSON, PickleType))


def draw(dice, table):
    """A select of the table's columns or of some of its rows, and an order for it."""
    columns = [column for column in table.c if is_sortable(column)]
    chosen = dice.sample(columns, dice.randint(1, min(2, len(columns))))
    order = ",".join(
        dice.choice(["", "-"]) + column.key + dice.choice(["", ":nulls-first", ":nulls-last"])
        for column in chosen
    )
    shown = select(*columns)
    if dice.random() < 0.3:
        shown = shown.where(dice.choice(columns).is_not(None))
    return Drawn("plain", shown, order, None, {})


@pytest.mark.slow
@pytest.mark.parametrize("package", PACKAGES, ids=lambda package: package.__name__)
def test_walks_of_published_models(server, package):
    try:
        metadata = package()
    except ImportError as error:
        missing("published", f"{error}: make test installs it")
    engine = server.dialect.name
    dice = random.Random(f"{package.__name__} 1")
    with server.connect() as connection:
        metadata.create_all(connection)
        try:
            held = {}
            for table in metadata.sorted_tables:
                fill(dice, connection, table, held)
            connection.commit()
            assert sum(map(len, held.values())) > 5 * len(metadata.tables)
            for table in metadata.sorted_tables:
                for _ in range(ORDERS):
                    walk(dice, connection, engine, table)
        finally:
            connection.rollback()
            metadata.drop_all(connection)
            connection.commit()


def walk(dice, connection, engine, table):
    drawn, size = draw(dice, table), dice.choice([1, 3, 7])
    strategy = dice.choice(STRATEGIES)

    def make():
        return Listing(
            drawn.select,
            name=table.name,
            orders=drawn.order,
            sizes=Sizes(size),
            total="exact",
            strategy=strategy,
        )

    truth = truth_of(make(), drawn, Place(connection, lambda: None), engine)
    try:
        everyway(make, connection, truth, size)
    except AssertionError as error:
        raise AssertionError(f"{table.name} by {drawn.order}, {strategy}: {error}") from error
