"""PostgreSQL: values that drivers, or settings of the session, do not hand over as they are."""

from __future__ import annotations

from datetime import date, datetime

import pytest
from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    Table,
    cast,
    create_engine,
    event,
    func,
    select,
    text,
    union_all,
)
from sqlalchemy.types import Date, DateTime, Text

import vrelko
from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError, OrderError
from walks import everyway, rows_of

pytestmark = pytest.mark.engines("postgresql")

ENDLESS = ["'infinity'", "'-infinity'", "'2024-05-01'", "'2024-05-02'", "'0044-03-15 BC'",
           "'9999-12-31'", "'0001-01-01'", "'12024-01-01'", "NULL"]  # fmt: skip
MOMENTS = [*ENDLESS, "'2024-05-01 00:00:00.000001'", "'2024-05-01 23:59:59'"]
VALUES = {
    "date": ENDLESS,
    "timestamp": MOMENTS,
    "timestamptz": MOMENTS,
    "float8": ["0.1", "0.1 + 1e-16", "1/3.0", "1/3.0 + 1e-15", "'NaN'", "'Infinity'", "NULL"],
    "float4": ["0.1", "0.1 + 1e-7", "1/3.0", "16777217", "16777216", "'-Infinity'", "NULL"],
    "interval": ["'1 day'", "'24:00:00'", "'-00:30'", "'1 mon 3 days'", "NULL"],
    "pair": ["ROW(1, NULL)", "ROW(NULL, 'x')", "ROW(1.5, 'y')", "ROW(NULL, NULL)", "NULL",
             "ROW(1, 'a')", "ROW(2, NULL)", "ROW(2, '(,\"')"],
    "money": ["12.5", "-1", "1234567.89", "NULL"],
    "bytea": ["'\\x00'", "'\\xff00'", "'abc'", "NULL"],
}  # fmt: skip
SESSIONS = {
    "usual": [],
    "German": ["SET DateStyle = 'German, DMY'", "SET IntervalStyle = 'sql_standard'"],
    "SQL": ["SET DateStyle = 'SQL, MDY'", "SET IntervalStyle = 'postgres_verbose'"],
    "Postgres": ["SET DateStyle = 'Postgres, DMY'", "SET IntervalStyle = 'iso_8601'"],
    "few digits": ["SET extra_float_digits = 0", "SET TIME ZONE 'Asia/Kolkata'"],
    "fewest digits": ["SET extra_float_digits = -15", "SET bytea_output = 'escape'"],
}


@pytest.fixture(scope="module")
def engine(server):
    made = create_engine(server.url)
    with made.begin() as connection:
        connection.execute(text("DROP TYPE IF EXISTS pair CASCADE"))
        connection.execute(text("CREATE TYPE pair AS (a float8, b text)"))
        for kind, values in VALUES.items():
            connection.execute(text(f"DROP TABLE IF EXISTS hard_{kind} CASCADE"))
            connection.execute(text(f"CREATE TABLE hard_{kind} (id int PRIMARY KEY, k {kind})"))
            for i, value in enumerate(values * 3):
                known = "" if kind == "money" and value != "NULL" else f"::{kind}"
                number = f"CAST({value} AS numeric)::money" if not known else f"({value}){known}"
                connection.exec_driver_sql(
                    f"INSERT INTO hard_{kind} VALUES ({(i * 7) % 97}, {number})"
                )
    yield made
    with made.begin() as connection:
        for kind in VALUES:
            connection.execute(text(f"DROP TABLE hard_{kind} CASCADE"))
        connection.execute(text("DROP TYPE pair"))
    made.dispose()


def column_of(kind):
    types = {"date": Date(), "timestamp": DateTime(), "timestamptz": DateTime(timezone=True)}
    return Column("k", types[kind]) if kind in types else Column("k")


def table_of(kind):
    name = f"hard_{kind}"
    return Table(name, MetaData(), Column("id", Integer, primary_key=True), column_of(kind))


@pytest.mark.parametrize(
    "session",
    [
        name if name in ("usual", "few digits") else pytest.param(name, marks=pytest.mark.slow)
        for name in SESSIONS
    ],
)
@pytest.mark.parametrize("kind", VALUES)
def test_every_way_whatever_the_session_says(engine, kind, session):
    table = table_of(kind)
    with engine.connect() as connection:
        for statement in SESSIONS[session]:
            connection.exec_driver_sql(statement)
        for sign in ("", "-"):
            down = " DESC" if sign else ""
            rows = connection.exec_driver_sql(
                f"SELECT id FROM hard_{kind} ORDER BY k{down}, id{down}"
            )
            truth = [tuple(row) for row in rows]

            def make(sign=sign):
                return Listing(
                    select(table.c.id),
                    name="hard",
                    orders=[f"{sign}k", "id"],
                    sizes=Sizes(4),
                    total="exact",
                )

            if kind == "pair" and "digits" in session:
                with pytest.raises(OrderError, match="extra_float_digits to 1"):
                    make().read(connection)
                continue
            everyway(make, connection, truth, 4)
            one, parts = make(), []
            for start, until in one.ranges(connection, 3):
                for page in one.walk(connection, size=4, start=start, until=until):
                    parts += rows_of(page)
            assert parts == truth
            key = one.read(connection, Spot.offset(5)).keys[0]
            assert make().where_is(connection, key).offset == 5
        connection.rollback()


@pytest.mark.parametrize("kind", ["date", "timestamp", "timestamptz"])
def test_moments_of_an_order_by_more_than_them(engine, kind):
    """Also through a union, a view and a subquery, where the moment stands behind other terms."""
    table = table_of(kind)
    with engine.begin() as connection:
        connection.exec_driver_sql(
            f"CREATE OR REPLACE VIEW endless_view AS SELECT id, k FROM hard_{kind}"
        )
    view = Table(
        "endless_view", MetaData(), Column("id", Integer, primary_key=True), column_of(kind)
    )
    third = (table.c.id % 3).label("third")
    inner = select(table.c.id, table.c.k, third).subquery("inner_rows")
    merged = union_all(select(table.c.id, table.c.k), select(table.c.id + 100, table.c.k))
    rows = merged.subquery("merged")
    cases = [
        (select(view.c.id), [view.c.k, view.c.id], None),
        (select(inner.c.id), [inner.c.third, inner.c.k, inner.c.id], ["id"]),
        (select(rows.c.id), [rows.c.k, rows.c.id], ["id"]),
    ]
    with engine.connect() as connection:
        for statement, order, unique in cases:
            truth = [tuple(row) for row in connection.execute(statement.order_by(*order))]
            names = ",".join(one.key for one in order)
            everyway(
                lambda statement=statement, names=names, unique=unique: Listing(
                    statement,
                    name="hard",
                    orders=names,
                    unique=unique,
                    sizes=Sizes(5),
                    total="exact",
                ),
                connection,
                truth,
                5,
            )
    with engine.begin() as connection:
        connection.exec_driver_sql("DROP VIEW endless_view")


def test_drivers_that_read_infinity_as_the_last_day(engine):
    """As the driver's own documentation shows; the day itself may be stored as well."""
    psycopg = pytest.importorskip("psycopg")
    from psycopg.types.datetime import DateLoader

    class Bounded(DateLoader):
        def load(self, data):
            if bytes(data) in (b"infinity", b"-infinity"):
                return date.max if data == b"infinity" else date.min
            try:
                return super().load(data)
            except psycopg.DataError:
                return date.max

    taught = create_engine(engine.url)

    @event.listens_for(taught, "connect")
    def _teach(connection, _record):
        connection.adapters.register_loader("date", Bounded)

    table = table_of("date")
    with taught.connect() as connection:
        for sign in ("", "-"):
            down = " DESC" if sign else ""
            plain = f"SELECT id FROM hard_date ORDER BY k{down}, id{down}"
            truth = [tuple(row) for row in connection.exec_driver_sql(plain)]
            everyway(
                lambda sign=sign: Listing(
                    select(table.c.id),
                    name="hard",
                    orders=f"{sign}k",
                    sizes=Sizes(4),
                    total="exact",
                ),
                connection,
                truth,
                4,
            )
            shown = Listing(select(table), name="hard", orders=f"{sign}k", sizes=Sizes(4))
            walked = [row.id for page in shown.walk(connection, size=4) for row in page]
            assert walked == [row[0] for row in truth]
    taught.dispose()


def test_a_value_that_only_the_select_can_make_readable(engine):
    table = table_of("timestamp")
    shown = select(table.c.id, cast(table.c.k, Text).label("till"))
    with engine.connect() as connection:
        listing = Listing(shown, name="hard", orders=[table.c.k], sizes=Sizes(4))
        tills = [row.till for page in listing.walk(connection, size=4) for row in page]
    assert {"infinity", "-infinity", None} < set(tills)


def test_a_place_by_a_moment_of_python(engine):
    """Keys that a caller gives, once keys are read as texts."""
    table = table_of("timestamp")
    listing = Listing(select(table.c.id), name="hard", orders="k", sizes=Sizes(30))
    last = select(func.count()).select_from(table).where(table.c.k <= datetime(2024, 5, 1))
    with engine.connect() as connection:
        ahead = connection.scalar(last)
        listing.read(connection)
        behind = listing.read(connection, Spot.at_value(datetime(2024, 5, 1, 0, 0, 0, 1)))
        every = [row.id for page in listing.walk(connection, size=9) for row in page]
        assert [row.id for row in behind] == every[ahead : ahead + 30]
        assert listing.read(connection, Spot.after((datetime(9999, 12, 31), 10**6))).rows


@pytest.mark.slow
@pytest.mark.parametrize(
    ("order", "analysed"),
    [("-valid_to", True), ("day", False), ("at", True), ("-span", False), ("hour", True)],
)
def test_plans_and_measurements_of_what_python_cannot_hold(engine, tmp_path, order, analysed):
    """Infinite dates, years before 1 and after 9999, 24:00, ranges of them: reflected, or stale."""
    days = "(ARRAY['infinity', '-infinity', '0044-03-15 BC', '12024-01-01', '2024-05-01'])"
    with engine.begin() as connection:
        connection.exec_driver_sql('DROP TABLE IF EXISTS "Valid: until"')
        connection.exec_driver_sql(
            'CREATE TABLE "Valid: until" (id int PRIMARY KEY, valid_to timestamp NOT NULL, '
            "day date, at timestamptz, span tstzrange, hour time)"
        )
        connection.exec_driver_sql(
            f'INSERT INTO "Valid: until" SELECT i, d::timestamp, d::date, d::timestamptz, '
            "tstzrange('-infinity', d::timestamptz), time '24:00' - (i / 9) * interval '1 minute' "
            f"FROM (SELECT i, CASE WHEN i * 7 / 5 * 5 = i * 7 THEN ({days})[i / 5 - i / 25 * 5 + 1]"
            " ELSE (date '2024-01-01' + i)::text END AS d FROM generate_series(1, 400) i) rows"
        )
        connection.exec_driver_sql('CREATE INDEX ON "Valid: until" (valid_to, id)')
        if analysed:
            connection.exec_driver_sql('ANALYZE "Valid: until"')
    table = Table("Valid: until", MetaData(), autoload_with=engine)
    listing = Listing(select(table.c.id), name="valid", orders=order, sizes=Sizes(20))
    plan = vrelko.plan(listing, engine=engine, writers=vrelko.Writers(60, 60), budget_ms=1e6)
    assert any(check.believed for check in plan.judgement.checks)
    assert plan.judgement.rows == pytest.approx(400, rel=0.3)
    found = vrelko.measure(engine, plan, readers=1, budget_ms=1e6)
    assert found.pages
    assert found.memory
    plain = create_engine(f"sqlite:///{tmp_path / 'copy.db'}")
    with pytest.raises(DatabaseError) as refused:
        vrelko.drift(plan, engine, walks=1, copy=plain, simulations=2)
    assert refused.value.code in ("replay-table", "replay-copy")
    plain.dispose()
    with engine.begin() as connection:
        connection.exec_driver_sql("CREATE SCHEMA IF NOT EXISTS elsewhere")
    beside = create_engine(engine.url, connect_args={"options": "-csearch_path=elsewhere"})
    replayed = vrelko.drift(plan, engine, walks=1, copy=beside, simulations=2).replayed
    assert all(each.alike for each in replayed)
    assert replayed
    beside.dispose()
