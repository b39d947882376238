"""The how-to pages do what they say, on each engine: their code is run as it stands."""

import re
import subprocess
import sys
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from sqlalchemy import create_engine, insert
from sqlalchemy.ext.asyncio import create_async_engine
from sqlalchemy.pool import NullPool

import api_doc
import commands_doc
from servers import async_url
from vrelko.larkmere.schema import capture, follow, metadata, species, station

ROOT = Path(__file__).parent.parent / "docs"
PAGES = [ROOT / "tutorial.md", *sorted((ROOT / "howto").glob("*.md"))]
CAPTURES = 600
APART = ("frameworks",)
"""Pages whose code settles something for a whole process: Django's settings."""


def str_of(engine):
    return engine.url.render_as_string(hide_password=False)


@pytest.fixture(scope="module")
def scheme(server, tmp_path_factory):
    """A small ringing scheme on each engine; SQLite's in a file, which several engines may open."""
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path_factory.mktemp('scheme') / 'scheme.db'}")
    metadata.create_all(server)
    begun = datetime(2026, 3, 1)
    with server.begin() as connection:
        stations = [{"id": i, "code": f"S{i:02}", "name": f"Station {i}"} for i in range(1, 13)]
        connection.execute(insert(station), stations)
        connection.execute(insert(species), [{"id": 1, "code": "TEST", "name": "Test bird"}])
        rows = [
            {
                "id": i,
                "ring": f"L{i * 7919 % 100_000:08}",
                "species_id": 1,
                "station_id": i % 6 + 1,
                "caught_at": begun + timedelta(minutes=7 * i),
                "weight_g": None if i % 40 == 0 else 10 + i * 31 % 200 / 10,
                "wing_mm": 60 + i % 20,
                "age_code": i % 4,
                "status": 0,
                "looked_at": None,
                "note": "x" * (i % 30),
            }
            for i in range(1, CAPTURES + 1)
        ]
        connection.execute(insert(capture), rows)
        connection.execute(insert(follow), [{"visitor_id": 1, "station_id": 3}])
    yield server
    metadata.drop_all(server)
    server.dispose()


@pytest.mark.parametrize(
    "page",
    [
        pytest.param(page, id=page.stem, marks=[pytest.mark.slow] if page.stem in APART else [])
        for page in PAGES
    ],
)
def test_a_page_does_what_it_says(scheme, page):
    text = page.read_text(encoding="utf-8")
    blocks = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    assert blocks
    assert "assert " in "".join(blocks)
    if page.stem in APART:
        head = f"from sqlalchemy import create_engine\nengine = create_engine({str_of(scheme)!r})\n"
        code = [sys.executable, "-c", head + "".join(blocks)]
        done = subprocess.run(code, capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        return
    known = {
        "engine": scheme,
        "async_engine": create_async_engine(async_url(scheme), poolclass=NullPool),
    }
    for block in blocks:
        exec(compile(block, f"<{page.stem}>", "exec"), known)


def test_every_page_is_in_the_index():
    index = (ROOT / "README.md").read_text(encoding="utf-8")
    linked = set(re.findall(r"\]\((?!http)([^)#]+)\)", index))
    for link in linked:
        assert (ROOT / link).exists(), link
    pages = {str(page.relative_to(ROOT)) for page in ROOT.rglob("*.md")}
    missing = {page for page in pages if not page.startswith("decisions/")} - linked - {"README.md"}
    assert not missing


def test_commands_and_calls_are_written_down():
    for page in (commands_doc, api_doc):
        assert page.PAGE.read_text() == page.render(), f"run: python tests/{page.__name__}.py"
