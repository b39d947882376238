"""Records and tables: a member of a family that one of them forgot fails here, by name."""

import ast
import importlib
import json
import pkgutil
import re
from collections import Counter
from dataclasses import MISSING, fields, replace
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from pathlib import Path
from uuid import UUID

import pytest
from sqlalchemy import bindparam, select
from sqlalchemy.dialects.mysql.pymysql import MySQLDialect_pymysql

import schemas_doc
import vrelko
from vrelko.core import strategies
from vrelko.core.cost import prices
from vrelko.core.drift.expectation import EXPECTED_FOR, expect_drift
from vrelko.core.drift.stream import Stream
from vrelko.core.engine_traits import TRAITS
from vrelko.core.strategies import RECORDS, SERVED, STRATEGIES, StrategyRecord
from vrelko.core.workload import Landing
from vrelko.engines.record import EngineRecord
from vrelko.engines.registry import CAPABILITIES, ENGINES, check_served, dialect_named, engine_name
from vrelko.errors import DatabaseError
from vrelko.larkmere.schema import capture
from vrelko.planning.plan import SHAPES, statements_text
from vrelko.serving.cursors.values import KEY_TYPES, Digest, decode_values, encode_value
from vrelko.sql.predicates import _NEUTRAL
from vrelko.web.bodies import to_json
from vrelko.web.openapi import _SCHEMAS

PARTIAL = {
    "vrelko.cli.tables._CLIENTS": "clients that would end a procedure at its first semicolon",
    "vrelko.sql.routines._WRITERS": "SQLite has no stored routines",
    "vrelko.engines.registry._BY_DIALECT": "by dialect, of which MariaDB has two",
    "vrelko.engines.registry._USUAL_DRIVERS": "by the beginning of a URL",
}
"""Tables that leave an engine out for a reason."""

COMPARED = {
    "measuring/memory": 1,  # SQLite's databases in memory
    "sql/sources": 1,  # row ids are SQLite's
    "web/demo/comparing": 1,  # statements per page are counted on SQLite
}
"""How often a module compares with an engine's name, and why it does."""

GRID = vrelko.Listing(
    select(capture.c.id, capture.c.ring).where(capture.c.station_id == bindparam("station")),
    name="grid",
    orders="-caught_at",
    expose=True,
)


def modules():
    for one in pkgutil.walk_packages(vrelko.__path__, "vrelko."):
        if not one.name.endswith("__main__"):
            yield importlib.import_module(one.name)


def tables_keyed_by(names):
    """Every table of a module whose keys are some of these names."""
    for module in modules():
        for name, value in vars(module).items():
            if isinstance(value, (dict, frozenset)) and value and getattr(value, "keys", None):
                keys = {key for key in value if isinstance(key, str)}
                if keys & names and f"{module.__name__}.{name}" not in PARTIAL:
                    yield f"{module.__name__}.{name}", keys


def test_each_table_has_every_engine():
    found = dict(tables_keyed_by(set(ENGINES)))
    assert len(found) > 12
    for name, keys in found.items():
        assert set(ENGINES) <= keys, name


def test_engines_are_compared_by_name_in_few_places():
    """What differs by engine stands in a table or a record; these few ask for one thing apart."""
    root = Path(vrelko.__file__).parent
    found = Counter()
    for path in root.rglob("*.py"):
        place = path.relative_to(root).with_suffix("").as_posix()
        if place.startswith("engines/"):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Compare):
                beside = [node.left, *node.comparators]
                names = [one for part in beside for one in ast.walk(part)]
                values = {one.value for one in names if isinstance(one, ast.Constant)}
                found[place] += bool(values & {*CAPABILITIES, "mysql"})
    assert {place: many for place, many in found.items() if many} == COMPARED


def test_an_engine_without_a_part_cannot_be_made():
    assert all(one.default is MISSING for one in fields(EngineRecord))
    whole = {one.name: getattr(ENGINES["sqlite"], one.name) for one in fields(EngineRecord)}
    assert EngineRecord(**whole) == ENGINES["sqlite"]
    for name in whole:
        with pytest.raises(TypeError, match=name):
            EngineRecord(**{key: value for key, value in whole.items() if key != name})
    for name, record in ENGINES.items():
        assert record.name == record.capabilities.engine == name
        assert CAPABILITIES[name].served
    assert {name for name, one in CAPABILITIES.items() if not one.served} == {
        "mysql",
        "mssql",
        "oracle",
    }


def test_mysql_is_an_engine_of_its_own():
    """Told apart by what the server says of itself, never by the URL; written for, not served."""
    dialect = MySQLDialect_pymysql()
    assert engine_name(dialect) == "mariadb"  # until it has connected
    dialect.server_version_info = (8, 0, 36)
    assert engine_name(dialect) == "mysql"
    with pytest.raises(DatabaseError, match="MySQL, whose plans, counters and time limits") as told:
        check_served(dialect)
    assert told.value.code == "engine-unserved"
    dialect.is_mariadb = True
    assert engine_name(dialect) == "mariadb"
    check_served(dialect)
    assert engine_name(dialect_named("mysql")) == "mysql"
    for strategy in STRATEGIES:
        for shape in SHAPES:
            for text in statements_text(GRID, strategy, "mysql", {}, shape):
                assert "`" not in text
                assert "NULLS" not in text
    seek = " ".join(statements_text(GRID, "keyset", "mysql", {})[0].split())
    where = "(capture.caught_at < :key_0 OR capture.caught_at = :key_0 AND capture.id < :key_1)"
    assert where in seek


def test_each_strategy_is_known_everywhere():
    assert all(one.default is MISSING for one in fields(StrategyRecord))
    assert set(STRATEGIES) == {name for name, one in RECORDS.items() if one.planned}
    assert tuple(RECORDS) == SERVED
    assert set(STRATEGIES) <= set(prices._PRICES)
    stream = Stream(1_000.0, 1.0, 1.0, Landing())
    for name, record in RECORDS.items():
        assert record.name == name
        assert record.shape in SHAPES
        assert record.drifts_as in EXPECTED_FOR
        assert expect_drift(record.drifts_as, stream, 20, 3, 10.0).pages >= 1
        if record.planned:
            assert statements_text(GRID, name, "sqlite", {"station": 3})


def test_a_strategy_that_nobody_knows_is_never_taken_for_another(monkeypatch, larkmere):
    """Though it were added to the lists, it is not served, priced or drawn as another."""
    monkeypatch.setattr(strategies, "STRATEGIES", (*STRATEGIES, "made-up"))
    for place in ("vrelko.serving.setup", "vrelko.planning.plan"):
        module = importlib.import_module(place)
        for name in ("SERVED", "STRATEGIES"):
            if hasattr(module, name):
                monkeypatch.setattr(module, name, (*SERVED, "made-up"))
    with pytest.raises(KeyError, match="made-up"):
        GRID.with_strategy("made-up")
    with pytest.raises(KeyError, match="made-up"):
        statements_text(GRID, "made-up", "sqlite", {"station": 3})
    with pytest.raises(KeyError, match="made-up"):
        expect_drift("made-up", Stream(1_000.0, 1.0, 1.0, Landing()), 20, 3, 10.0)
    plan = vrelko.plan(
        GRID.with_workload(vrelko.Workload(params={"station": 3})), engine=larkmere, run=False
    )
    with pytest.raises(KeyError, match="made-up"):
        plan.usual_model().strategy("made-up", 0, 20)


def test_findings_and_errors_say_where_they_are_replaced():
    """A record is changed by making another one; nothing is set on it."""
    with pytest.raises(AttributeError):
        ENGINES["sqlite"].name = "other"
    assert replace(RECORDS["keyset"], name="x").name == "x"
    with pytest.raises(vrelko.errors.ListingError, match="is immutable"):
        GRID.strategy = "nonsense"
    assert GRID.strategy == "keyset"
    assert GRID.changed(strategy="offset").strategy == "offset"


SAMPLES = {
    type(None): None, bool: True, int: -7, float: 0.1, str: "ähre\n", bytes: b"\x00\xff",
    datetime: datetime(2026, 3, 1, 7, 0, 0, 5), date: date(2026, 3, 1), time: time(7, 5),
    timedelta: timedelta(-1, 5), Decimal: Decimal("1.10"), UUID: UUID(int=5),
    Digest: Digest.of("x" * 900),
}  # fmt: skip


def test_each_type_of_key_is_written_read_bound_shown_and_described():
    """Digests stand in cursors alone, and NULL is never bound."""
    assert set(SAMPLES) == set(KEY_TYPES)
    assert len({one.letter for one in KEY_TYPES.values()}) == len(KEY_TYPES)
    for kind, value in SAMPLES.items():
        text = encode_value(value)
        assert text[0] == KEY_TYPES[kind].letter
        assert decode_values([text]) == (value,)
        if kind in (type(None), Digest):
            continue
        assert kind in _NEUTRAL
        assert kind in _SCHEMAS
        shown = json.loads(to_json(value))
        wanted = {"boolean": bool, "integer": int, "number": float, "string": str}
        assert type(shown) is wanted[_SCHEMAS[kind]["type"]]


def test_every_field_of_json_output_is_written_down(larkmere):
    """In docs/schemas.md, whose lists of fields are those of the records."""
    assert schemas_doc.written() == schemas_doc.render(), "run: python tests/schemas_doc.py"
    listing = GRID.with_workload(vrelko.Workload(params={"station": 3}))
    plan = vrelko.plan(listing, engine=larkmere)
    with larkmere.connect() as connection:
        page = listing.read(connection, params={"station": 3})
    documents = (
        json.loads(plan.facts.to_json()),
        json.loads(plan.to_json()),
        vrelko.measure(larkmere, plan).as_dict(),
        vrelko.drift(plan, walks=1, simulations=5).as_dict(),
        {name: value for name, value in page.as_dict().items() if name != "rows"},
    )
    known = set(re.findall(r"[A-Za-z_]\w*", schemas_doc.PAGE.read_text(encoding="utf-8")))
    own = {
        *STRATEGIES,
        *EXPECTED_FOR,
        *TRAITS["sqlite"].prices.us,
        "station",
        *plan.facts.server.settings,
    }
    for document in documents:
        missing = {name for name in names_in(document) if name not in known | own}
        assert not missing, document["schema"]


def names_in(data):
    """The names of fields anywhere in plain data."""
    if isinstance(data, dict):
        for name, value in data.items():
            yield name
            yield from names_in(value)
    elif isinstance(data, (list, tuple)):
        for value in data[:5]:
            yield from names_in(value)


def parsed():
    for path in Path(vrelko.__file__).parent.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            yield path.name, node


def test_functions_fit_on_a_screen():
    long = [
        (name, node.name)
        for name, node in parsed()
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
        and node.end_lineno - node.lineno >= 60
    ]
    assert long == []


def test_records_are_made_by_the_names_of_their_parts():
    """Six values in a row would be counted off at every call, and two that are swapped fit."""
    tables = ("Table", "Column", "Index")  # SQLAlchemy's, which take any number
    many = [
        (name, node.lineno)
        for name, node in parsed()
        if isinstance(node, ast.Call)
        and len(node.args) >= 6
        and ast.unparse(node.func).split(".")[-1].lstrip("_")[:1].isupper()
        and ast.unparse(node.func) not in tables
    ]
    assert many == []
