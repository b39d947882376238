"""Survey on servers: what statistics tell, what they lack, what one may not see."""

import pytest
from click.testing import CliRunner
from sqlalchemy import create_engine, text
from sqlalchemy.exc import DBAPIError

import vrelko
from vrelko.cli.main import main
from vrelko.engines.registry import open_database
from vrelko.errors import DatabaseError

ROWS = 5_000
SERIES = {
    "postgresql": f"generate_series(1, {ROWS}) AS s(i)",
    "mariadb": f"(SELECT seq AS i FROM seq_1_to_{ROWS}) AS s",
}


pytestmark = pytest.mark.engines("postgresql", "mariadb")  # SQLite: test_survey.py


@pytest.fixture(scope="module")
def engine(server):
    with server.begin() as connection:
        connection.execute(
            text(
                "CREATE TABLE seen (id bigint PRIMARY KEY, site int NOT NULL, hour int, "
                "note varchar(40) NOT NULL)"
            )
        )
        connection.execute(text("CREATE INDEX seen_site ON seen (site, hour)"))
        connection.execute(text("CREATE TABLE nothing (id bigint PRIMARY KEY)"))
        connection.execute(
            text(
                "INSERT INTO seen SELECT i, i % 20, CASE WHEN i % 5 = 0 THEN NULL ELSE i END, 'x' "
                f"FROM {SERIES[server.dialect.name]}"
            )
        )
        connection.execute(text("CREATE VIEW shown AS SELECT * FROM seen"))
    yield server
    with server.begin() as connection:
        connection.execute(text("DROP VIEW shown"))
        connection.execute(text("DROP TABLE seen"))
        connection.execute(text("DROP TABLE nothing"))


def test_without_statistics_numbers_come_from_samples(engine):
    facts = vrelko.survey(engine, "seen")
    seen = facts.table("seen")
    assert seen.rows == pytest.approx(ROWS, rel=0.2)
    assert seen.column("site").distinct == pytest.approx(20, rel=0.3)
    assert seen.column("hour").null_share == pytest.approx(0.2, abs=0.08)
    assert seen.column("hour").correlation == pytest.approx(1, abs=0.01)
    assert abs(seen.column("site").correlation) < 0.3
    if engine.dialect.name == "postgresql":
        assert any("no statistics were ever taken" in note for note in facts.notes)
    assert vrelko.survey(engine, "nothing").table("nothing").rows == 0


def test_everything_and_what_is_no_table(engine):
    facts = vrelko.survey(engine)
    assert {table.name for table in facts.tables} >= {"seen", "nothing"}
    assert "shown" not in {table.name for table in facts.tables}
    shown = vrelko.survey(engine, "shown")
    assert shown.tables[0].is_view
    assert "what lies behind it is not known" in shown.notes[0]
    with pytest.raises(DatabaseError, match="'seen'"):
        vrelko.survey(engine, "sene")


@pytest.mark.engines("postgresql")
def test_with_statistics_and_shapes_of_indexes(engine):
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        for statement in (
            "CREATE INDEX partly ON seen (hour DESC NULLS LAST) INCLUDE (site) WHERE site > 3",
            "CREATE INDEX lowered ON seen (lower(note))",
            "VACUUM ANALYZE seen",
            "UPDATE seen SET site = site + 1 WHERE id % 2 = 0",
            "ALTER TABLE seen ENABLE ROW LEVEL SECURITY",
        ):
            connection.execute(text(statement))
    seen = vrelko.survey(engine, "seen").table("seen")
    shown = {index.name: index for index in seen.indexes}
    assert shown["partly"].columns[0].nulls_first is False
    assert shown["partly"].included == ("site",)
    assert "site > 3" in shown["partly"].where
    assert shown["lowered"].text == "(expression)"
    assert seen.row_security
    assert seen.column("hour").bounds
    assert seen.column("hour").share_below(2_500) == pytest.approx(0.4, abs=0.05)


@pytest.mark.engines("postgresql")
def test_rights_that_are_missing(engine):
    role = f"{engine.url.database}_guest"  # roles are the whole server's
    with engine.begin() as connection:
        connection.execute(text(f"DROP ROLE IF EXISTS {role}"))
        connection.execute(text(f"CREATE ROLE {role} LOGIN"))
    guest = create_engine(engine.url.set(username=role))
    try:
        facts = vrelko.survey(guest, "seen")
        assert facts.table("seen").rows > 0
        assert any("may not read it" in note for note in facts.notes)
    finally:
        guest.dispose()
        with engine.begin() as connection:
            connection.execute(text(f"DROP ROLE {role}"))


def test_the_command_line_reads_only(engine):
    url = engine.url.render_as_string(hide_password=False)
    result = CliRunner().invoke(main, ["survey", url, "seen"])
    assert result.exit_code == 0, result.output
    assert "seen_site" in result.stdout
    guarded = open_database(url)
    with pytest.raises(DBAPIError), guarded.begin() as connection:
        connection.execute(text("INSERT INTO nothing VALUES (1)"))
    guarded.dispose()


@pytest.mark.engines("mariadb")
def test_tables_without_an_integer_key_are_sampled_across(engine):
    """By an integer that any index begins with; else the server's own counts of values count."""
    made = (
        "CREATE TABLE pairs (a INT NOT NULL, b INT NOT NULL, v INT, PRIMARY KEY (a, b))",
        "INSERT INTO pairs SELECT seq DIV 3, seq % 3, seq % 700 FROM seq_1_to_9000",
        "CREATE TABLE worded (word VARCHAR(20) PRIMARY KEY, v INT, code VARCHAR(20), KEY (code))",
        "INSERT INTO worded SELECT CONCAT('w', LPAD(seq, 6, '0')), seq, "
        "CONCAT('c', seq DIV 4) FROM seq_1_to_8000",
        "ANALYZE TABLE pairs, worded",
    )
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        for statement in made:
            connection.execute(text(statement))
    pairs, worded = (vrelko.survey(engine, name).tables[0] for name in ("pairs", "worded"))
    assert pairs.column("v").distinct == pytest.approx(700, rel=0.3)
    assert pairs.column("a").distinct == pytest.approx(3_000, rel=0.4)
    assert worded.column("code").distinct == pytest.approx(2_000, rel=0.3)
    assert worded.column("word").distinct == worded.rows
    with engine.begin() as connection:
        connection.execute(text("DROP TABLE pairs, worded"))
