"""Tables that nobody here designed: schemas, mixed case, reserved words, views, no key, none."""

from __future__ import annotations

import json

import pytest
from click.testing import CliRunner
from sqlalchemy import MetaData, Table, create_engine, event, func, select, text
from starlette.testclient import TestClient

import vrelko
from clocks import ENOUGH_MS
from vrelko import Listing, Sizes, Spot
from vrelko.cli.main import main
from vrelko.core.identifiers import plain_name, quote
from vrelko.engines.registry import ENGINES
from vrelko.errors import DatabaseError, OrderError
from vrelko.web import make_app

SERIES = {
    "sqlite": "(WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000) "
    "SELECT i FROM n) AS s",
    "postgresql": "generate_series(1, 3000) AS s(i)",
    "mariadb": "(SELECT seq AS i FROM seq_1_to_3000) AS s",
}


@pytest.fixture(scope="module")
def odd(server):
    """A database of odd tables: each row i, i modulo 7, a text."""
    name = server.dialect.name
    q = server.dialect.identifier_preparer.quote_identifier
    other, kind = side_of(server), "DATABASE" if name == "mariadb" else "SCHEMA"
    drop = f"DROP {kind} IF EXISTS {q(other)}" + (" CASCADE" if name == "postgresql" else "")
    side = [] if name == "sqlite" else [drop, f"CREATE {kind} {q(other)}"]
    tables = [q("Order"), "plain", *([f"{q(other)}.{q('Ring Log')}"] if side else [])]
    made = [*side]
    for table in tables:
        made += [
            f"CREATE TABLE {table} ({q('Id')} INTEGER PRIMARY KEY, {q('group')} INTEGER, "
            "note VARCHAR(30))",
            f"INSERT INTO {table} SELECT i, i % 7, 'x' FROM {SERIES[name]}",
        ]
    made += [
        f"CREATE VIEW some_rows AS SELECT {q('Id')}, note FROM plain WHERE {q('group')} < 3",
        "CREATE TABLE keyless (a INTEGER NOT NULL, b INTEGER NOT NULL)",
        f"INSERT INTO keyless SELECT i, i % 7 FROM {SERIES[name]}",
        "CREATE UNIQUE INDEX keyless_a ON keyless (a)",
        "CREATE TABLE bare (id INTEGER PRIMARY KEY, g INTEGER)",
    ]
    if name == "postgresql":
        made += ["CREATE MATERIALIZED VIEW kept AS SELECT * FROM plain"]
    with server.begin() as connection:
        for statement in made:
            connection.execute(text(statement))
    yield server
    with server.begin() as connection:
        connection.execute(text("DROP VIEW some_rows"))
        if name == "postgresql":
            connection.execute(text("DROP MATERIALIZED VIEW kept"))
        for table in (*tables, "keyless", "bare"):
            connection.execute(text(f"DROP TABLE {table}"))
        if side:
            connection.execute(text(drop))


def side_of(engine):
    """The name of another schema, or on MariaDB of another database."""
    return f"{engine.url.database} Side"


def reflected(engine, name, schema=None):
    return Table(name, MetaData(), schema=schema, autoload_with=engine)


def planned(engine, table, orders, **settings):
    listing = Listing(select(table), name="odd", orders=orders, sizes=Sizes(20), **settings)
    return listing, vrelko.plan(listing, engine=engine, budget_ms=ENOUGH_MS)


@pytest.mark.slow
def test_mixed_case_and_reserved_words(odd):
    """Their facts go by the plain name, and the index advised can be made as it is printed."""
    table = reflected(odd, "Order")
    assert "Order" in {one.name for one in vrelko.survey(odd).tables}
    listing, plan = planned(odd, table, "group,Id")
    assert plan.judgement.rows == 3_000
    assert plan.judgement.reading in ("agreed", "counted")
    (advice,) = plan.indexes
    with odd.begin() as connection:
        connection.execute(text(advice.sql))
    again = vrelko.plan(listing, engine=odd, budget_ms=ENOUGH_MS)
    assert not again.indexes
    assert again.judgement.path.index.name == advice.index.name
    with odd.begin() as connection:
        q = odd.dialect.identifier_preparer.quote_identifier
        table_ = f" ON {q('Order')}" if odd.dialect.name == "mariadb" else ""
        connection.execute(text(f"DROP INDEX {q(advice.index.name)}{table_}"))


@pytest.mark.engines("postgresql", "mariadb")
def test_another_schema_or_database(odd):
    other = side_of(odd)
    table = reflected(odd, "Ring Log", other)
    assert vrelko.survey(odd, table).tables[0].rows == pytest.approx(3_000, rel=0.3)
    assert vrelko.survey(odd, f"{other}.Ring Log").tables[0].schema == other
    listing, plan = planned(odd, table, "-group,Id")
    assert plan.judgement.rows == 3_000
    assert plan.judgement.path.kind == "sorted"
    q = odd.dialect.identifier_preparer.quote_identifier
    assert f" ON {q(other)}.{q('Ring Log')} (" in plan.indexes[0].sql
    with odd.connect() as connection:
        assert sum(len(page) for page in listing.walk(connection)) == 3_000


def test_views_are_planned_by_what_their_pages_read(odd):
    view = reflected(odd, "some_rows")
    listing, plan = planned(odd, view, "Id", unique=["Id"])
    assert plan.facts.tables[0].is_view
    assert not plan.indexes
    assert plan.judgement.reading == "counted"
    assert plan.judgement.rows == 1_286  # i modulo 7 below 3, of 1 to 3,000
    assert any(f.code == "plan-misread" for f in plan.findings)
    with odd.connect() as connection:
        assert sum(len(page) for page in listing.walk(connection)) == plan.judgement.rows


@pytest.mark.engines("postgresql")
def test_a_materialized_view(odd):
    table = reflected(odd, "kept")
    _, plan = planned(odd, table, "note,Id", unique=["Id"])
    assert plan.judgement.rows == 3_000
    assert plan.indexes[0].sql.startswith("CREATE INDEX ")


def test_a_key_that_is_none_is_refused_and_a_unique_index_proves_one(odd):
    table = reflected(odd, "keyless")
    _, plan = planned(odd, table, "b")
    assert str(plan.outline.orders[0]).startswith("b")
    assert "a" in plan.outline.orders[0].names
    with pytest.raises(OrderError, match="unique = b does not identify a row: two rows share"):
        planned(odd, table, "b", unique=["b"])


def test_an_empty_table(odd):
    listing, plan = planned(odd, reflected(odd, "bare"), "g")
    assert plan.judgement.rows == 0
    assert plan.verdict.strategy == "keyset"
    with odd.connect() as connection:
        assert not listing.read(connection)


def test_a_name_in_another_case_is_not_found_but_suggested(odd):
    with pytest.raises(DatabaseError, match="Did you mean 'Order'"):
        vrelko.survey(odd, "order")


def test_names_are_quoted_as_the_engine_has_it(odd):
    name = {"mysql": "mariadb"}.get(odd.dialect.name, odd.dialect.name)
    for given in ("plain", "Order", "order", "two words", 'a"b', "a`b", "2nd", "ähre"):
        quoted = quote(given, name)
        with odd.connect() as connection:
            row = connection.exec_driver_sql(f"SELECT 1 AS {quoted}").mappings().one()
        assert list(row) == [given]
    assert plain_name("Ring Log", "by", "group") == "Ring_Log_by_group"


def test_an_aliased_table_is_found_in_what_the_server_says(odd):
    other = reflected(odd, "plain").alias("o")
    listing = Listing(select(other).where(other.c.group == 3), name="o", orders="Id")
    plan = vrelko.plan(listing, engine=odd, budget_ms=ENOUGH_MS)
    assert plan.judgement.rows == pytest.approx(3_000 / 7, abs=1)
    assert not any("no step" in check.node for check in plan.uses[0].checks)


def test_an_order_that_is_computed_is_counted(odd):
    table = reflected(odd, "plain")
    listing = Listing(
        select(table, func.abs(table.c.group).label("far")), name="far", orders="far,Id"
    )
    plan = vrelko.plan(listing, engine=odd, budget_ms=ENOUGH_MS)
    assert plan.judgement.rows == 3_000
    assert plan.judgement.path.kind == "sorted"


PAGES = """
[source]
{source}
[listing.orders]
table = 'Order'
orders = ['-group']
filters = {{ group = ":group" }}
sizes = {{ default = 40, max = 100 }}
[listing.some]
table = 'some_rows'
orders = ['Id']
unique = ['Id']
[listing.nothing]
table = 'bare'
orders = ['g']
[listing.loose]
table = 'keyless'
orders = ['b']
[listing.choices]
kind = 'choices'
sql = 'SELECT {id}, note FROM plain WHERE {id} < 30'
orders = ['Id']
unique = ['Id']
"""
ELSEWHERE = """
[listing.ring_log]
table = '{other}.Ring Log'
orders = ['group']
strategy = 'offset'
"""


@pytest.mark.slow
def test_odd_tables_over_http(odd, tmp_path):
    """By links and numbers, as HTML and CSV, from a pages file, as `serve` does."""
    source = file_of(odd, tmp_path)
    url = f"sqlite:///{source}" if odd.dialect.name == "sqlite" else source
    written = PAGES.format(
        source=f"url = {url!r}", id=odd.dialect.identifier_preparer.quote_identifier("Id")
    )
    if odd.dialect.name != "sqlite":
        written += ELSEWHERE.format(other=side_of(odd))
    (tmp_path / "pages.toml").write_text(written)
    pages = vrelko.load(tmp_path / "pages.toml")
    rows = {"orders": 3_000, "some": 1_286, "nothing": 0, "loose": 3_000, "ring_log": 3_000}
    with TestClient(make_app(dict(pages), pages.engine, title="Odd")) as client:
        for name in pages:
            answer = client.get(f"/{name}?size=100" if name == "orders" else f"/{name}")
            assert answer.status_code == 200, answer.text
            if name == "choices":
                assert len(answer.json()["choices"]) == 29
                continue
            seen = list(answer.json()["rows"])
            while answer.json()["links"]["next"]:
                answer = client.get(answer.json()["links"]["next"])
                seen += answer.json()["rows"]
            assert len({tuple(row.items()) for row in seen}) == len(seen) == rows[name]
            size = 40 if name == "orders" else 25
            assert client.get(f"/{name}?page=2").json()["rows"] == seen[size : 2 * size]
            shown = client.get(f"/{name}", headers={"accept": "text/html"})
            assert shown.text.count("<tr") == 1 + min(len(seen), size)
            exported = client.get(f"/{name}/export?format=csv").text.splitlines()
            assert len(exported) == 1 + len(seen)
        some = client.get("/orders?group=3&size=100").json()["rows"]
        assert {row["group"] for row in some} == {3}
        assert client.get("/openapi.json").status_code == 200
    pages.close()


def attached(folder, name):
    """An engine on one file that has a second one beside it, by a name as SQL writes it."""
    engine = create_engine(f"sqlite:///{folder / 'one.db'}")
    event.listen(
        engine, "connect", lambda raw, _: raw.execute(f"ATTACH '{folder / 'b'}' AS {name}")
    )
    return engine


def test_tables_of_an_attached_database_are_served(tmp_path):
    """And where they cannot be planned, that is said."""
    engine = attached(tmp_path, "side")
    with engine.begin() as connection:
        connection.exec_driver_sql("CREATE TABLE side.t (id INTEGER PRIMARY KEY, g INTEGER)")
        connection.execute(text(f"INSERT INTO side.t SELECT i, i % 7 FROM {SERIES['sqlite']}"))
    listing = Listing(select(reflected(engine, "t", "side")), name="t", orders="g")
    with engine.connect() as connection:
        assert sum(len(page) for page in listing.walk(connection)) == 3_000
    with pytest.raises(DatabaseError, match="attached databases are served"):
        vrelko.plan(listing, engine=engine)


def test_an_attached_file_with_tables_of_the_same_names_answers_for_itself(tmp_path):
    """An archive beside today's file: same table, other rows, key, indexes and statistics."""
    engine = attached(tmp_path, '"old: er"')
    with engine.begin() as connection:
        connection.exec_driver_sql("CREATE TABLE t (id TEXT PRIMARY KEY, g TEXT) WITHOUT ROWID")
        connection.exec_driver_sql("INSERT INTO t VALUES ('a', 'b')")
        away = '"old: er"'
        connection.exec_driver_sql(f"CREATE TABLE {away}.t (id INTEGER PRIMARY KEY, g INTEGER)")
        connection.exec_driver_sql(f"CREATE INDEX {away}.few ON t (g) WHERE g = 3")
        connection.exec_driver_sql(f"CREATE INDEX {away}.by_g ON t (g)")
        filled = f"INSERT INTO {away}.t SELECT i, i % 7 FROM {SERIES['sqlite']}"
        connection.execute(text(filled.replace("old: er", "old\\: er")))
        connection.exec_driver_sql("ANALYZE")
    table = reflected(engine, "t", "old: er")
    listing = Listing(
        select(table), name="t", orders=["id", "g"], total="about", jumps="anchors", kind="grid"
    )
    with engine.connect() as connection:
        assert listing.read(connection).total.value == 3_000
        assert listing.share_of(connection, 1_500).value == pytest.approx(0.5, abs=0.01)
        assert sum(len(page) for page in listing.walk(connection, order="g")) == 3_000
        indexes = ENGINES["sqlite"].read_indexes(connection, table, engine.dialect)
        assert [one.name for one in indexes] == ["by_g", "few"]
    anchors = listing.counted_anchors(engine, every=100)
    anchors.build()
    with engine.begin() as connection:
        connection.exec_driver_sql(f"DELETE FROM {away}.t WHERE id % 2 = 0")
        connection.exec_driver_sql("DELETE FROM t")
    with engine.connect() as connection:
        page = listing.read(connection, Spot.number(11), size=100)
        assert [row.id for row in page][:2] == [2_001, 2_003]
    anchors.fold()
    assert set(anchors.verify()) == {0}
    anchors.drop()


@pytest.mark.slow
def test_a_draft_of_odd_tables_loads_and_plans(odd, tmp_path):
    """Of all tables there are: mixed case, views, keyless ones, an empty one, another schema's."""
    file = tmp_path / "pages.toml"
    source = file_of(odd, tmp_path)
    drafted = CliRunner().invoke(main, ["draft", str(source), "-o", str(file)])
    assert drafted.exit_code == 0, drafted.output
    planned = CliRunner().invoke(main, ["plan", str(file), "--no-run", "--json"])
    assert planned.exit_code == 0, planned.output
    rows = {one["listing"]: one["rows"] for one in json.loads(planned.stdout)}
    assert rows["Order"] == rows["Order_export"] == rows["keyless"] == 3_000
    assert rows["bare"] == 0
    view = CliRunner().invoke(main, ["draft", str(source), "some_rows"])
    assert "some_rows: nothing identifies its rows" in view.stdout


def file_of(engine, folder):
    """An address that a command can open: SQLite's database in memory is written to a file."""
    if engine.dialect.name != "sqlite":
        return engine.url.render_as_string(hide_password=False)
    file = folder / "odd.db"
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text(f"VACUUM INTO '{file}'"))
    return file
