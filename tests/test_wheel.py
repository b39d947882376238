"""The built wheel, in an environment of its own: a package file that is missing is noticed."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from servers import missing

ROOT = Path(__file__).parent.parent
PAGES = """\
[source]
url = "sqlite:///birds.db"

[listing.birds]
table  = "bird"
orders = ["-grams"]
sizes  = { default = 5 }
total  = "exact"
"""
MAKE = """
import sqlite3
connection = sqlite3.connect("birds.db")
connection.execute("CREATE TABLE bird (id INTEGER PRIMARY KEY, grams REAL)")
rows = [(i, i * 7919 % 100 / 4) for i in range(1, 41)]
connection.executemany("INSERT INTO bird VALUES (?, ?)", rows)
connection.commit()
connection.close()
"""
PAGE = """
import vrelko
pages = vrelko.load("pages.toml")
page = pages["birds"].read(pages.engine, vrelko.Spot.number(2))
heaviest = sorted((i * 7919 % 100 / 4 for i in range(1, 41)), reverse=True)
assert [row.grams for row in page] == heaviest[5:10], page.rows
print(page.from_to, pages["birds"].read(pages.engine, page.next).number)
"""
SERVED = """
import asyncio, sys
import vrelko
from vrelko.web import make_app

async def get(app, path, accept):
    scope = {"type": "http", "method": "GET", "path": path, "query_string": b"page=2",
             "root_path": "", "scheme": "http", "server": ("x", 80), "client": ("127.0.0.1", 1),
             "headers": [(b"host", b"x"), (b"accept", accept.encode())]}
    sent = []
    async def receive():
        return {"type": "http.request", "body": b"", "more_body": False}
    async def send(message):
        sent.append(message)
    await app(scope, receive, send)
    return sent[0]["status"], b"".join(one.get("body", b"") for one in sent[1:]).decode()

pages = vrelko.load("pages.toml")
app = make_app({"birds": pages["birds"]}, pages.engine)
for path, accept, word in (("/birds", "application/json", '"rows"'),
                           ("/birds", "text/html", "<table"),
                           ("/openapi.json", "application/json", '"/birds"')):
    status, body = asyncio.run(get(app, path, accept))
    assert status == 200 and word in body, (path, accept, status, body[:500])
"""
pytestmark = pytest.mark.slow  # builds, and installs from a package index


@pytest.fixture(scope="module")
def uv():
    """The command `uv`, from the environment of the tests or the PATH."""
    beside = Path(sys.executable).with_name("uv")
    command = str(beside) if beside.exists() else shutil.which("uv")
    if command is None:
        missing("uv", "uv is missing, which builds wheels and environments: pip install uv")
    return command


@pytest.fixture(scope="module")
def wheel(uv, tmp_path_factory):
    """The wheel of the code as it is."""
    folder = tmp_path_factory.mktemp("wheel")
    run(uv, "build", "--wheel", "--quiet", "--out-dir", folder, ROOT)
    (built,) = folder.glob("*.whl")
    return built


def run(*command, where=None):
    """Run a command with nothing of this checkout on its path, and return what it prints."""
    plain = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}
    texts = [str(part) for part in command]
    done = subprocess.run(texts, cwd=where, capture_output=True, text=True, env=plain)
    assert done.returncode == 0, f"{texts}\n{done.stdout}\n{done.stderr}"
    return done.stdout


@pytest.mark.parametrize("extras", ["", "[all]"])
def test_an_installed_wheel_plans_and_serves(uv, wheel, tmp_path, extras):
    """On SQLite with what the base brings; then with every extra."""
    place = tmp_path / "environment"
    run(uv, "venv", "--quiet", "--python", sys.executable, place)
    python, vrelko = place / "bin" / "python", place / "bin" / "vrelko"
    run(uv, "pip", "install", "--quiet", "--python", python, f"{wheel}{extras}")
    (tmp_path / "pages.toml").write_text(PAGES)
    run(python, "-c", MAKE, where=tmp_path)
    version = run(vrelko, "--version", where=tmp_path)
    assert version.split()[-1] in wheel.name
    assert "bird: serve it" in run(vrelko, "plan", "birds.db", "bird", where=tmp_path)
    assert run(python, "-c", PAGE, where=tmp_path) == "6–10 of 40 3\n"
    assert "keyset" in run(vrelko, "about", "keyset", where=tmp_path)
    told = run(vrelko, "plan", "pages.toml", "--details", where=tmp_path)
    assert "ORDER BY" in told
    if extras:
        run(python, "-c", SERVED, where=tmp_path)
        run(vrelko, "report", "pages.toml", "-o", "report.html", "--walks", "1", where=tmp_path)
        assert (tmp_path / "report.html").stat().st_size > 10_000
