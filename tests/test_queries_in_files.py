"""Listings that a pages file describes by a query, by a table elsewhere, or in Python."""

from __future__ import annotations

import json

import pytest
from click.testing import CliRunner
from sqlalchemy import MetaData, Table, create_engine, insert, select, text

import vrelko
from clocks import ENOUGH_MS
from vrelko.cli.main import main
from vrelko.errors import PagesFileError

QUERY = """
[listing.busy]
sql     = "SELECT s.id, s.name, count(c.id) AS birds FROM ringer s LEFT JOIN bird c ON c.of = s.id AND c.size > :least GROUP BY s.id, s.name"
orders  = ["-birds,name"]
filters = { name = ":name" }
unique  = ["id"]
sizes   = { default = 10, max = 50 }
total   = "exact"
expose  = true
params  = { least = 2 }
"""  # noqa: E501


@pytest.fixture(scope="module")
def birds(server):
    """60 ringers, one in three without a bird, the others with a few of sizes 0 to 6."""
    quote = server.dialect.identifier_preparer.quote_identifier
    with server.begin() as connection:
        connection.execute(text("CREATE TABLE ringer (id INTEGER PRIMARY KEY, name VARCHAR(20))"))
        connection.execute(
            text(f"CREATE TABLE bird (id INTEGER PRIMARY KEY, {quote('of')} INTEGER, size INTEGER)")
        )
        meta = MetaData()
        ringer, bird = (Table(one, meta, autoload_with=connection) for one in ("ringer", "bird"))
        connection.execute(insert(ringer), [{"id": i, "name": f"r{i % 17}"} for i in range(60)])
        connection.execute(
            insert(bird),
            [{"id": i, "of": i * 7 % 60, "size": i % 7} for i in range(900) if i * 7 % 60 % 3],
        )
    yield server
    with server.begin() as connection:
        meta.drop_all(connection)


@pytest.fixture
def write(birds, tmp_path):
    def write(listings, engine=birds):
        url = engine.url.render_as_string(hide_password=False)
        path = tmp_path / "pages.toml"
        path.write_text(f'[source]\nurl = "{url}"\n{listings}')
        return path

    return write


def query(engine):
    quote = engine.dialect.identifier_preparer.quote_identifier
    return QUERY.replace("c.of", f"c.{quote('of')}".replace('"', '\\"'))


def test_a_query_is_paged_as_it_stands(birds, write):
    pages = vrelko.load(write(query(birds)), engine=birds)
    listing = pages["busy"]
    with birds.connect() as connection:
        rows = connection.execute(select(listing.select.subquery()), {"least": 2}).all()
        truth = sorted(rows, key=lambda row: (-row.birds, row.name, row.id))
        for strategy in ("keyset", "offset"):
            served = listing.with_strategy(strategy) if strategy != "keyset" else listing
            walked = [row for page in served.walk(connection, params={"least": 2}) for row in page]
            assert walked == truth
        first = listing.read(connection, params={"least": 2, "name": "r3"})
        assert {row.name for row in first} == {"r3"}
        assert first.total.value == sum(row.name == "r3" for row in rows)


def test_a_query_is_planned_by_counted_pages(birds, write):
    pages = vrelko.load(write(query(birds)), engine=birds)
    plan = vrelko.plan(pages["busy"], engine=birds, budget_ms=ENOUGH_MS)
    assert plan.judgement.rows == 60
    assert plan.judgement.reading == "counted"
    assert any("what lies behind it" in note for note in plan.facts.notes)


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("SELECT s.id,", "SELEKT s.id,", r"listing.busy.sql is refused by the database"),
        ("s.name, count", "s.id, count", r"two columns of one name|Duplicate column name"),
        ('"-birds,name"', '"-fish"', r"-fish|'fish'"),
        ("filters = { name", "filters = { nest", "that the query does not have"),
        ("sql     =", "table = 'bird'\nsql =", "one of table"),
    ],
)
def test_faults_of_a_query_are_named(birds, write, old, new, said):
    given = query(birds)
    assert old in given
    with pytest.raises(PagesFileError, match=said):
        vrelko.load(write(given.replace(old, new, 1)), engine=birds)


def test_a_query_needs_a_database(birds, write, tmp_path):
    facts = tmp_path / "facts.json"
    facts.write_text(vrelko.survey(birds, "bird").to_json())
    path = write(query(birds))
    path.write_text(f'[source]\nfacts = "{facts.name}"\n{query(birds)}')
    with pytest.raises(PagesFileError, match="cannot be read without a database"):
        vrelko.load(path)


@pytest.mark.engines("postgresql", "mariadb")
def test_a_table_of_another_schema(birds, write):
    name = birds.dialect.name
    side = f"{birds.url.database}_apart"
    kind = "SCHEMA" if name == "postgresql" else "DATABASE"
    with birds.begin() as connection:
        connection.execute(text(f"CREATE {kind} {side}"))
        connection.execute(text(f"CREATE TABLE {side}.nest (id INTEGER PRIMARY KEY, eggs INTEGER)"))
        connection.execute(text(f"INSERT INTO {side}.nest VALUES (1, 4), (2, 3), (3, 4)"))
    try:
        listing = f'[listing.nests]\ntable = "{side}.nest"\norders = ["-eggs"]\n'
        pages = vrelko.load(write(listing), engine=birds)
        with birds.connect() as connection:
            assert [row.id for row in pages["nests"].read(connection)] in ([1, 3, 2], [3, 1, 2])
        assert vrelko.plan(pages["nests"], engine=birds, budget_ms=ENOUGH_MS).judgement.rows == 3
        wrong = listing.replace(".nest", ".nests")
        with pytest.raises(PagesFileError, match=f"Did you mean '{side}.nest'"):
            vrelko.load(write(wrong), engine=birds)
    finally:
        with birds.begin() as connection:
            connection.execute(text(f"DROP TABLE {side}.nest"))
            connection.execute(text(f"DROP {kind} {side}"))


def test_what_a_file_says_of_a_listing_in_python_counts(birds, write, tmp_path, monkeypatch):
    (tmp_path / "my_nests.py").write_text(
        "from sqlalchemy import MetaData, Table, Column, Integer, bindparam, select\n"
        "from vrelko import Listing\n"
        "bird = Table('bird', MetaData(), Column('id', Integer, primary_key=True), "
        "Column('size', Integer))\n"
        "big = Listing(select(bird).where(bird.c.size == bindparam('size')), name='big')\n"
    )
    monkeypatch.syspath_prepend(str(tmp_path))
    told = '[listing.big]\npython = "my_nests:big"\nparams = { size = 3 }\n'
    pages = vrelko.load(write(told + "[listing.big.readers]\nusers = 70\n"), engine=birds)
    plan = vrelko.plan(pages["big"], engine=birds, budget_ms=ENOUGH_MS)
    assert plan.params == {"size": 3}
    assert plan.given.readers.users == 70
    assert plan.judgement.reading in ("agreed", "counted")


@pytest.mark.slow
def test_commands_keep_to_a_budget_and_say_what_they_left_out(
    birds, write, tmp_path, few_simulated
):
    where = birds
    if birds.dialect.name == "sqlite":  # one in memory is this process's alone
        with birds.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.exec_driver_sql(f"VACUUM INTO '{tmp_path / 'birds.db'}'")
        where = create_engine(f"sqlite:///{tmp_path / 'birds.db'}")
    path = write('[listing.birds]\ntable = "bird"\norders = ["-size"]\ntotal = "exact"\n', where)

    def run(*arguments):
        result = CliRunner().invoke(main, [*map(str, arguments), "--json"])
        assert result.exit_code == 0, result.output
        return json.loads(result.stdout)

    (asked,) = run("plan", path, "--no-run")
    assert asked["checks"] == []
    enough = ("--budget-ms", "60000")  # on however slow a machine
    (planned,) = run("plan", path, *enough)
    assert {check["strategy"] for check in planned["checks"]} >= {"offset", "keyset", "first"}
    (measured,) = run("measure", path, *enough)
    assert {page["strategy"] for page in measured["pages"]} >= {"offset", "keyset"}
    reported = run("report", path, "-o", path.parent / "report.html", "--walks", "2")
    (study,) = reported["listings"]
    if birds.dialect.name == "sqlite":
        assert study["drift"]["replayed"]
    else:
        assert "No walk was replayed" in study["notes"][0]
    assert (path.parent / "report.html").stat().st_size > 10_000
