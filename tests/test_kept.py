"""What earlier code wrote is read by the code as it is, or refused with what to do about it."""

import json
import shutil

import pytest
from click.testing import CliRunner
from sqlalchemy import create_engine, insert, inspect, select, text

import kept
import vrelko
from kept import KEPT, KINDS, ROWS, SECRET, UNFOLDED, Sighting, frozen_listing, ids, jumping, row, s
from vrelko import Spot
from vrelko.cli.main import main
from vrelko.errors import CursorError, VrelkoError

FOLDERS = sorted(path for path in KEPT.iterdir() if path.is_dir())
REFUSED: dict[tuple[str, str], str] = {}
"""Folder and file, or kind of cursor, that later code refuses, with words of the way out.

None yet. A format that is left behind gets its entry here; the files stay.
"""
pytestmark = pytest.mark.parametrize("folder", FOLDERS, ids=lambda path: path.name)


def read_or_refuse(folder, name, read):
    """Read a file that was kept; None where it is refused in words that say what to do."""
    told = REFUSED.get((folder.name, name))
    if told is None:
        return read()
    with pytest.raises(VrelkoError, match=told) as caught:
        read()
    assert caught.value.todo
    return None


@pytest.fixture
def copy(folder, tmp_path):
    """A copy of a folder, which may be written to, and an engine on its database."""
    shutil.copytree(folder, tmp_path / "kept")
    engine = create_engine(f"sqlite:///{tmp_path / 'kept' / 'kept.db'}")
    yield tmp_path / "kept", engine
    engine.dispose()


def run(*arguments):
    return CliRunner().invoke(main, [str(argument) for argument in arguments])


def test_nothing_kept_was_changed(folder):
    assert kept.digests(folder) == json.loads((folder / "digests.json").read_text())


@pytest.mark.parametrize("kind", [*KINDS, "frozen"])
def test_a_cursor_leads_to_its_rows(folder, copy, kind):
    place, engine = copy
    cursors = json.loads((place / "cursors.json").read_text())
    listing = frozen_listing(engine) if kind == "frozen" else kept.listing(**KINDS[kind])
    found = cursors[kind]

    def read():
        return listing.read(engine, found["next"], params={"site": 1})

    page = read_or_refuse(folder, kind, read)
    if page is None:
        return
    assert ids(page) == found["ids"]
    back = listing.read(engine, found["prev"], params={"site": 1})
    assert ids(back) == ids(listing.read(engine, params={"site": 1}))
    with pytest.raises(CursorError):  # and is bound to what it was of
        listing.read(engine, found["next"], params={"site": 0})
    if "secrets" in KINDS.get(kind, {}):
        with pytest.raises(CursorError):
            listing.changed(secrets=[SECRET[::-1]]).read(engine, found["next"], params={"site": 1})


def test_a_pages_file_loads_and_serves(folder, copy):
    place, engine = copy
    pages = read_or_refuse(folder, "pages.toml", lambda: vrelko.load(place / "pages.toml"))
    if pages is None:
        return
    page = pages["sightings"].read(pages.engine, params={"site": 1}, order="ring")
    with engine.connect() as connection:
        asked = select(s.id).where(s.site == 1).order_by(s.ring, s.id).limit(10)
        assert ids(page) == connection.execute(asked).scalars().all()
    assert page.total.value == ROWS / 2
    pages.engine.dispose()


def test_facts_and_plans_are_read(folder, copy):
    place, _ = copy
    pages = place / "pages.toml"
    facts = read_or_refuse(
        folder, "facts.json", lambda: vrelko.Facts.from_json((place / "facts.json").read_text())
    )
    if facts is not None:
        assert facts.table("Ring sighting").rows == ROWS
        planned = run("plan", pages, "--facts", place / "facts.json")
        assert planned.exit_code == 0, planned.output
    changed = run("plan", pages, "--since", place / "plan.json", "--no-run")
    told = REFUSED.get((folder.name, "plan.json"))
    assert changed.exit_code == (2 if told else 0), changed.output
    assert (told or "sightings") in changed.output


@pytest.mark.slow
def test_the_result_of_drift_has_the_fields_it_has_today(folder, copy):
    """Nothing here reads one, but its users do: fields are added, or the schema's number grows."""
    place, _ = copy
    (old,) = json.loads((place / "drift.json").read_text())
    now = run("drift", place / "pages.toml", "--expect-only", "--json")
    assert now.exit_code == 0, now.output
    (new,) = json.loads(now.stdout)
    if old["schema"] == new["schema"]:
        assert set(old) <= set(new)
        assert set(old["simulated"][0]) <= set(new["simulated"][0])
        assert set(old["expected"][0]) <= set(new["expected"][0])
    else:
        assert old["schema"].split("/")[0] == new["schema"].split("/")[0]
        assert int(old["schema"].split("/")[1]) < int(new["schema"].split("/")[1])


def test_a_file_of_anchors_is_jumped_by(folder, copy):
    place, engine = copy
    filed = jumping().changed(anchor_file=place / "anchors.json")
    page = filed.read(engine, Spot.number(8), params={"site": 1})
    with engine.connect() as connection:
        plain = kept.listing().read(connection, Spot.number(8), params={"site": 1})
    assert ids(page) == ids(plain)
    told = REFUSED.get((folder.name, "anchors.json"), "as of the last count: static anchors")
    assert told in page.notes[0]


def statements(engine, folder):
    """Make a database as it was kept, on a server."""
    name = {"mysql": "mariadb"}.get(engine.dialect.name, engine.dialect.name)
    lines = json.loads((folder / f"{name}.json").read_text())
    driver = engine.raw_connection()
    try:
        cursor = driver.cursor()
        for line in lines:
            cursor.execute(line)
        driver.commit()
    finally:
        driver.detach()  # a dump sets more than one would find
        driver.close()


@pytest.fixture
def database(folder, copy, server):
    """A database with counted anchors as earlier code built them, on each engine."""
    if server.dialect.name == "sqlite":
        yield copy[1]
        return
    statements(server, folder)
    yield server
    with server.begin() as connection:
        quote = connection.dialect.identifier_preparer.quote_identifier
        cascade = " CASCADE" if connection.dialect.name == "postgresql" else ""
        for name in inspect(connection).get_table_names():
            if name == Sighting.name or name.startswith("vrelko_"):
                connection.execute(text(f"DROP TABLE {quote(name)}{cascade}"))
        if cascade:
            asked = text("SELECT oid::regprocedure FROM pg_proc WHERE proname LIKE 'vrelko%'")
            for function in connection.execute(asked).scalars().all():
                connection.execute(text(f"DROP FUNCTION {function}"))


def test_anchors_in_a_database_are_exact_or_refused(folder, database):
    listing, plain = jumping(), kept.listing()
    anchors = listing.counted_anchors(database)
    name = database.dialect.name
    told = REFUSED.get((folder.name, name))

    def check():
        for number in (1, 8, 20):
            page = listing.read(database, Spot.number(number), params={"site": 1})
            same = plain.read(database, Spot.number(number), params={"site": 1})
            assert ids(page) == ids(same)
            assert page.total == same.total
            assert page.notes == ((told,) if told else ())  # pages by offset, and says so

    check()
    with database.begin() as connection:
        connection.execute(insert(Sighting), [row(i) for i in range(ROWS + 1, ROWS + 20)])
        connection.execute(Sighting.delete().where(s.id.between(30, 60)))
        connection.execute(Sighting.update().where(s.id == 9).values(ring="moved"))
    check()
    if told is None:
        assert anchors.stored()[1] >= UNFOLDED
        assert anchors.fold() > UNFOLDED
        assert not any(anchors.verify())
        check()
    anchors.drop()
    assert not [one for one in inspect(database).get_table_names() if "vrelko_log" in one]
