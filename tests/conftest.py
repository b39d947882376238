"""Shared fixtures: a small Larkmere database that tests may read, and copies they may change."""

from __future__ import annotations

import gc
import os
import re
import shutil
from collections import Counter
from collections.abc import Container, Iterable
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings
from sqlalchemy import Connection, Engine, MetaData, Pool, create_engine, event

from servers import NAMES, open_server
from vrelko.core.drift.simulating import simulate
from vrelko.larkmere.generate import build

settings.register_profile(
    "default",
    max_examples=60,
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow],
    print_blob=True,
)
settings.register_profile("deep", parent=settings.get_profile("default"), max_examples=10_000)
settings.load_profile(os.environ.get("VRELKO_EXAMPLES", "default"))


@pytest.fixture(scope="session")
def larkmere_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A Larkmere database of 20,000 captures; only to be read."""
    path = tmp_path_factory.mktemp("larkmere") / "larkmere.db"
    engine = create_engine(f"sqlite:///{path}")
    build(engine, captures=20_000)
    engine.dispose()
    return path


@pytest.fixture(scope="session")
def larkmere(larkmere_file: Path):
    """An engine on the shared Larkmere database."""
    engine = create_engine(f"sqlite:///{larkmere_file}")
    yield engine
    engine.dispose()


@pytest.fixture
def own_larkmere(larkmere_file: Path, tmp_path: Path):
    """An engine on a copy of the Larkmere database that the test may change."""
    path = tmp_path / "larkmere.db"
    shutil.copy(larkmere_file, path)
    engine: Engine = create_engine(f"sqlite:///{path}")
    yield engine
    engine.dispose()


COMPAT = {
    *("test_values", "test_stored_types", "test_cursors"),  # key values, and their types
    *("test_order", "test_arithmetic", "test_positions", "test_walk_property", "test_walks"),
    *("test_selects", "test_statements", "test_first_contact", "test_limits"),  # SQLAlchemy's ways
    *("test_package", "test_records", "test_kept"),
    *("test_web", "test_howto"),
}
"""Modules that are run on the oldest Python and libraries too: what may differ by version."""

_SHARED: set[Pool] = set()


@contextmanager
def _closing(longer: Container[Pool]):
    """Close the SQLite databases that are opened inside: newer Pythons mind those left open.

    But not those of `longer` life: a server may be reading one in a thread, whose connection
    would come back to a pool that nobody closes any more.
    """
    used: dict[Pool, Engine] = {}

    def note(connection: Connection) -> None:
        engine = connection.engine
        if engine.url.get_backend_name() == "sqlite" and engine.pool not in longer:
            used.setdefault(engine.pool, engine)

    event.listen(Engine, "engine_connect", note)
    yield used
    event.remove(Engine, "engine_connect", note)
    for engine in used.values():
        engine.dispose()


@pytest.fixture(autouse=True)
def _close_files(_close_files_of_the_module: Iterable[Pool]):
    with _closing({*_SHARED, *_close_files_of_the_module}):
        yield


@pytest.fixture(autouse=True, scope="module")
def _close_files_of_the_module():
    """What a module's own fixtures open, when they are torn down too."""
    with _closing(_SHARED) as used:
        yield used


@pytest.fixture(scope="module")
def few_simulated():
    """Simulate 30 walks at most: for tests of what is printed, not of the simulator."""
    with pytest.MonkeyPatch.context() as patch:

        def few(stream, size, pages, dwell_s, walks=30, *more):
            return simulate(stream, size, pages, dwell_s, min(walks, 30), *more)

        patch.setattr("vrelko.measuring.drift.simulate", few)
        yield


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    """Give a test the servers that it is about: those its mark `engines` names, or all.

    A test that names the server beside another parameter has its combinations already.
    """
    given = [mark.args[0] for mark in metafunc.definition.iter_markers("parametrize")]
    if "server" in metafunc.fixturenames and not any("server" in names for names in given):
        mark = metafunc.definition.get_closest_marker("engines")
        names = mark.args if mark else NAMES
        assert set(names) <= set(NAMES), f"{metafunc.definition.nodeid}: engines {names}"
        metafunc.parametrize("server", names, indirect=True, scope="session")


LONG = {
    *("test_wheel", "test_drawn_walks", "test_published_models", "test_demo_page", "test_shards"),
    *("test_counted_anchors", "test_drift", "test_ways_of_writing", "test_sqlite_keys"),
}
"""Modules of few tests that take long: first, or one process would wait for another at the end."""


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Mark the tests that are run on the oldest versions too; put long ones first."""
    for item in items:
        if item.path.stem in COMPAT:
            item.add_marker("compat")
    if hasattr(config, "workerinput"):  # one of several processes
        scopes = Counter(_scope(item.nodeid) for item in items)
        items.sort(key=lambda item: (item.path.stem not in LONG, -scopes[_scope(item.nodeid)]))


def _scope(nodeid: str) -> str:
    """What tests share: those of a module on one server are run in one process."""
    module, _, test = nodeid.partition("::")
    server = re.search(rf"[\[-]({'|'.join(NAMES)})[]-]", test)
    return f"{module} {server[1] if server else ''}"


def pytest_collection_finish() -> None:
    """Look for garbage less often: a tenth of the time that all tests take, and more.

    Not frozen: Hypothesis asks who refers to its random generators.
    """
    gc.set_threshold(200_000, 50, 100)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> Any:
    """Keep a module's tests on one server in one process, so that what they share is made once."""
    from xdist.scheduler import LoadScopeScheduling

    class ByModuleAndServer(LoadScopeScheduling):
        def _split_scope(self, nodeid: str) -> str:
            return _scope(nodeid)

    config.option.loadscopereorder = False  # by their number alone
    return ByModuleAndServer(config, log)


@pytest.fixture(scope="session")
def server(request: pytest.FixtureRequest):
    """An engine on an empty database, on each kind of server in turn."""
    with open_server(request.param) as engine:
        _SHARED.add(engine.pool)
        yield engine


@pytest.fixture
def made(server):
    """A connection and the tables made on it, which are dropped afterwards."""
    meta = MetaData()
    with server.connect() as connection:
        yield connection, meta
        connection.rollback()
        meta.drop_all(connection)
        connection.commit()
