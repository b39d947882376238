"""Pages files: what they hold, and how their faults are told."""

import re
from datetime import datetime

import pytest
from sqlalchemy import bindparam, select

import vrelko
from vrelko import Listing, Sizes
from vrelko.errors import CursorError, DatabaseError, PagesFileError, VrelkoError
from vrelko.larkmere.schema import capture

GRID = """
[listing.grid]
table   = "capture"
columns = ["id", "ring"]
where   = { station_id = ":station" }
filters = { species_id = ":species" }
orders  = ["-caught_at", "-weight_g:nulls-last"]
sizes   = { default = 10, max = 50 }
total   = "exact"
expose  = true
params  = { station = [2, 1] }
"""

WING = capture.c.wing_mm


@pytest.fixture
def write(tmp_path, larkmere_file):
    def write(text, url=None):
        path = tmp_path / "pages.toml"
        path.write_text(f'[source]\nurl = "{url or f"sqlite:///{larkmere_file}"}"\n{text}')
        return path

    return write


def test_a_file_serves_the_pages_its_python_twin_serves(write):
    pages = vrelko.load(write(GRID))
    twin = Listing(
        select(capture.c.id, capture.c.ring).where(capture.c.station_id == bindparam("station")),
        name="grid",
        orders=["-caught_at", "-weight_g:nulls-last"],
        filters={"species": capture.c.species_id == bindparam("species")},
        sizes=Sizes(10, max=50),
        total="exact",
        expose=True,
    )
    with pages.engine.connect() as connection:
        for call in (
            {"params": {"station": 2}},
            {"params": {"station": 2, "species": 1}, "order": "-weight_g:nulls-last", "size": 50},
        ):
            here = pages["grid"].read(connection, **call)
            there = twin.read(connection, **call)
            assert here.as_dict() == there.as_dict()
            assert (
                pages["grid"].read(connection, there.next, **call).rows
                == twin.read(connection, here.next, **call).rows
            )
    assert list(pages) == ["grid"]
    assert pages["grid"].workload.params == {"station": 2}
    pages.engine.dispose()


@pytest.mark.parametrize(
    ("where", "condition"),
    [
        ("{ wing_mm = { ge = 50, lt = 60 } }", WING.between(50, 59)),
        ("{ wing_mm = { gt = 50, le = 60 } }", WING.between(51, 60)),
        (
            "{ species_id = { in = [1, 2] }, status = 3 }",
            capture.c.species_id.in_([1, 2]) & (capture.c.status == 3),
        ),
        ("{ weight_g = { null = true } }", capture.c.weight_g.is_(None)),
        (
            '{ weight_g = { null = false }, note = "" }',
            capture.c.weight_g.is_not(None) & (capture.c.note == ""),
        ),
    ],
)
def test_conditions(write, larkmere, where, condition):
    pages = vrelko.load(write(f'[listing.a]\ntable = "capture"\norders = ["id"]\nwhere = {where}'))
    with larkmere.connect() as connection:
        expected = connection.execute(
            select(capture.c.id).where(condition).order_by(capture.c.id).limit(25)
        ).scalars()
        assert pages["a"].read(connection).scalars() == list(expected)
    pages.engine.dispose()


def test_a_file_of_everything(write):
    text = GRID.replace("[listing.grid]", '[listing.grid]\nkind = "feed"\nunique = ["id"]\ncap = 9')
    text += """
    [listing.grid.readers]
    pages_per_minute = 3
    depth = { mean = 7, jumps = 0.5 }
    [listing.grid.writers]
    inserts_per_minute = 2
    lands = { kind = "late", mean_s = 60 }
    [listing.grid.needs]
    repeats = 0
    """
    pages = vrelko.load(write(text))
    workload = pages["grid"].workload
    assert (workload.readers.depth.mean, workload.readers.pages_per_minute) == (7, 3)
    assert (workload.writers.lands.kind, workload.needs.repeats) == ("late", 0)
    pages.engine.dispose()


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('"capture"', '"captur"', "listing.grid.table names 'captur'.*Did you mean 'capture'"),
        ('"ring"]', '"rings"]', "listing.grid.columns names a column 'rings'.*mean 'ring'"),
        ("station_id =", "station =", "listing.grid.where names a column 'station'.*'station_id'"),
        ("species_id =", "specie_id =", "listing.grid.filters names .*'species_id'"),
        ("-caught_at", "-caughtat", "listing.grid: 'caughtat'.*Did you mean 'caught_at'"),
        ("-caught_at", "--caught_at", "cannot be read"),
        ("orders ", "order ", "'listing.grid.order' is not known.*Did you mean 'orders'"),
        ("default = 10", "defaul = 10", "'listing.grid.sizes.defaul'.*Did you mean 'default'"),
        ("default = 10", "default = 0", "listing.grid.sizes.default.*greater than or equal to 1"),
        ("max = 50", "max = 5", "listing.grid.sizes' .*at least the default"),
        ("max = 50", 'max = "some"', "listing.grid.sizes.max"),
        ('":station" }', "{ from = 3 } }", "listing.grid.where.station_id.*a value, ':parameter'"),
        ('":station" }', "{ } }", "listing.grid.where.station_id"),
        ('"exact"', '"exactly"', "listing.grid.total.*'exact', 'capped', 'about' or 'none'"),
        ("params  =", "parms =", "'listing.grid.parms' is not known.*'params'"),
        ('table   = "capture"', "", "listing.grid.*one of table"),
        ('table   = "capture"', 'python = "json:dumps"', "names a function, not a Listing"),
        ('table   = "capture"', 'python = "no.such:thing"', "cannot be imported"),
        ("[listing.grid]", "[listin.grid]", "'listin'|'listing'"),
        ("[listing.grid]", "[listing.grid", r"is not valid TOML.*line \d"),
        ("GRID", "", None),
    ],
)
def test_faults_name_file_key_and_way_out(write, old, new, said):
    if said is None:
        assert vrelko.load(write(GRID))["grid"].name == "grid"
        return
    assert old in GRID
    with pytest.raises(PagesFileError, match=f"(?s)pages.toml.*{said}") as caught:
        vrelko.load(write(GRID.replace(old, new, 1)))
    assert caught.value.todo


def test_sources(write, tmp_path, monkeypatch, larkmere_file):
    listing = '[listing.a]\ntable = "capture"\norders = ["id"]\n'
    with pytest.raises(PagesFileError, match="no pages file"):
        vrelko.load(tmp_path / "none.toml")
    with pytest.raises(PagesFileError, match="cannot be read"):
        vrelko.load(tmp_path)
    with pytest.raises(DatabaseError, match="no database file"):
        vrelko.load(write(listing, url="sqlite:///none.db"))
    with pytest.raises(DatabaseError, match="engine 'oracle' is not served"):
        vrelko.load(write(listing, url="oracle://u:secret@h/x"))
    path = tmp_path / "env.toml"
    path.write_text(f'[source]\nurl_env = "SOME_URL"\n{listing}')
    monkeypatch.delenv("SOME_URL", raising=False)
    with pytest.raises(PagesFileError, match="'SOME_URL', which is not set"):
        vrelko.load(path)
    monkeypatch.setenv("SOME_URL", f"sqlite:///{larkmere_file}")
    pages = vrelko.load(path)
    assert len(pages["a"].read(pages.engine)) == 25
    with pages.engine.connect() as connection, pytest.raises(Exception, match="readonly"):
        connection.exec_driver_sql("DELETE FROM capture")
    pages.engine.dispose()
    (tmp_path / "beside.db").write_bytes(larkmere_file.read_bytes())
    pages = vrelko.load(write(listing, url="sqlite:///beside.db"))  # beside the file, not here
    assert len(pages["a"].read(pages.engine)) == 25
    with pytest.raises(PagesFileError, match="Known: a"):
        pages["b"]
    pages.engine.dispose()


@pytest.mark.parametrize(
    ("steady", "strategy"),
    [
        ("ceiling = true", "offset"),
        ("overlap = 3", "offset"),
        ('settle = { column = "caught_at", seconds = 5 }', "keyset"),
        ('frozen = { url = "sqlite:///lists.db", expires_s = 60 }', "frozen-ids"),
        ('frozen = { url = "sqlite:///file:{}/lists.db?uri=true" }', "frozen-ids"),
    ],
)
def test_pages_that_are_kept_steady(write, tmp_path, steady, strategy):
    text = GRID.replace("[listing.grid]", f'[listing.grid]\nstrategy = "{strategy}"')
    orders = 'orders = ["caught_at"]' if "settle" in steady else None
    if orders:
        text = re.sub(r"orders *= *\[.*?\]", orders, text)
    steady = steady.replace("{}", str(tmp_path))  # an address of its own: taken as it stands
    pages = vrelko.load(write(f"{text}\n[listing.grid.steady]\n{steady}\n"))
    listing = pages["grid"]
    first = listing.read(pages.engine, params={"station": 2})
    second = listing.read(pages.engine, first.next, params={"station": 2})
    assert len(first) == len(second)
    assert {row.id for row in first}.isdisjoint(row.id for row in second)
    assert (tmp_path / "lists.db").exists() == (strategy == "frozen-ids")
    pages.engine.dispose()


def test_secrets_and_wires(write, monkeypatch):
    text = GRID + "\n[listing.grid.web]\nfirst = 0\nfields = { rows = 'data', strip = false }\n"
    path = write(text)
    path.write_text(path.read_text().replace("[source]", '[source]\nsecrets_env = "SOME_SECRETS"'))
    monkeypatch.delenv("SOME_SECRETS", raising=False)
    with pytest.raises(PagesFileError, match="'SOME_SECRETS', which is not set"):
        vrelko.load(path)
    monkeypatch.setenv("SOME_SECRETS", "the newest of two secrets,the one that came before")
    pages = vrelko.load(path)
    assert pages.web["grid"]["fields"] == {"rows": "data", "strip": None}
    page = pages["grid"].read(pages.engine, params={"station": 2})
    monkeypatch.setenv("SOME_SECRETS", "another secret altogether")
    with pytest.raises(CursorError):
        vrelko.load(path)["grid"].read(pages.engine, page.next, params={"station": 2})
    pages.engine.dispose()
    with pytest.raises(PagesFileError, match=r"listing.grid.web.first"):
        vrelko.load(write(text.replace("first = 0", "first = 7")))


def test_messages_hold_no_password(write):
    with pytest.raises(VrelkoError) as caught:
        vrelko.load(write("[listing.a]\ntable = 'x'", url="mysql+nodriver://u:hunter2@h/x"))
    assert "hunter2" not in str(caught.value)


DATED = """
[listing.dated]
table = "capture"
orders = ["id"]
where = {{ caught_at = {where} }}
params = {{ since = {value} }}
"""


MOMENTS = ['"2026-03-01T00:00:00"', "2026-03-01T00:00:00", "2026-03-01 00:00:00"]


@pytest.mark.slow
@pytest.mark.parametrize("value", MOMENTS)
@pytest.mark.parametrize("where", ['{ ge = ":since" }', "{ ge = VALUE }"])
def test_moments_are_text_or_tomls_own(write, value, where):
    text = DATED.format(value=value, where=where.replace("VALUE", value))
    pages = vrelko.load(write(text if "since" in where else text.replace("params", "# params")))
    plan = vrelko.plan(pages["dated"], engine=pages.engine, budget_ms=20_000)
    assert plan.judgement.checks
    usual = pages["dated"].workload.params
    with pages.engine.connect() as connection:
        given = usual if "since" in where else {}
        found = pages["dated"].read(connection, params=given, size=5)
    assert all(row.caught_at >= datetime(2026, 3, 1) for row in found)


@pytest.mark.parametrize(
    ("where", "value", "said"),
    [
        ('{ ge = ":since" }', '"yesterday"', "dated.params.since.*not an ISO 8601 date and time"),
        ('{ ge = "yesterday" }', "1", "'yesterday' compared with 'caught_at'.*not an ISO 8601"),
    ],
)
def test_values_that_do_not_fit_their_column(write, where, value, said):
    with pytest.raises(PagesFileError, match=f"(?s){said}"):
        vrelko.load(write(DATED.format(where=where, value=value)))


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("broken_module:x", "SyntaxError"),
        ("raising_module:x", "RuntimeError"),
        (".x:y", "form"),
        ("raising_module", "form"),
        (":x", "form"),
        ("no_such_module:x", "No module"),
        ("exiting_module:x", "cannot be imported"),
    ],
)
def test_modules_that_cannot_be_imported(write, tmp_path, monkeypatch, name, said):
    (tmp_path / "broken_module.py").write_text("def x(:\n")
    (tmp_path / "raising_module.py").write_text("raise RuntimeError('no')\n")
    (tmp_path / "exiting_module.py").write_text("import sys\nsys.exit(3)\n")
    monkeypatch.syspath_prepend(tmp_path)
    with pytest.raises(PagesFileError, match=rf"(?s)listing.own.python.*{said}"):
        vrelko.load(write(f'[listing.own]\npython = "{name}"\n'))
