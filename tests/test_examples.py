"""The examples of web frameworks and batches, each run as its users would."""

import importlib
import subprocess
import sys
from contextlib import contextmanager
from pathlib import Path

import pytest
from starlette.testclient import TestClient

EXAMPLES = Path(__file__).parent.parent / "examples"
TOLD = EXAMPLES / "web"


@pytest.fixture
def load(larkmere_file, monkeypatch):
    """Import an example over the sample database."""
    monkeypatch.setenv("LARKMERE_URL", f"sqlite:///{larkmere_file}")
    monkeypatch.syspath_prepend(str(TOLD))

    def load(name):
        for known in ("listings", name):
            sys.modules.pop(known, None)
        return importlib.import_module(name)

    yield load
    sys.modules.pop("listings", None)


class Django:
    """Django's test client, as the others are used."""

    def __init__(self):
        from django.test import Client

        self._client = Client()

    def get(self, url):
        answer = self._client.get(url)
        answer.text = answer.content.decode()
        return answer


class Flask:
    """Flask's test client, as the others are used."""

    def __init__(self, app):
        self._client = app.test_client()

    def get(self, url):
        return _Answer(self._client.get(url))


class _Answer:
    def __init__(self, answer):
        self.status_code, self.headers, self.text = answer.status_code, answer.headers, answer.text
        self.json = answer.get_json


@contextmanager
def client_of(name, load):
    module = load(name)
    if name == "django_pages":
        yield Django()
    elif name == "flask_pages":
        yield Flask(module.app)
    else:
        with TestClient(module.app) as client:
            yield client


@pytest.mark.parametrize("name", ["fastapi_pages", "flask_pages", "django_pages", "async_service"])
def test_each_framework_serves_a_grid_and_a_feed(load, name):
    with client_of(name, load) as client:
        check_client(client)


def check_client(client):
    first = client.get("/captures?station=1&size=10")
    assert first.status_code == 200
    body = first.json()
    assert (len(body["rows"]), body["number"]) == (10, 1)
    assert body["from_to"]["text"].startswith("1–10 of ")
    assert 'rel="next"' in first.headers["Link"]
    second = client.get(body["links"]["next"]).json()
    assert second["number"] == 2
    assert second["rows"][0]["id"] != body["rows"][0]["id"]
    fourth = client.get("/captures?station=1&size=10&page=4").json()
    assert fourth["from_to"]["first"] == 31
    feed = client.get("/arrivals").json()
    onward = client.get(feed["links"]["next"]).json()
    assert {row["id"] for row in feed["rows"]}.isdisjoint(row["id"] for row in onward["rows"])
    wrong = client.get("/captures?page=none")
    assert wrong.status_code == 400
    assert wrong.headers["Content-Type"].startswith("application/problem+json")
    assert wrong.json()["code"] == "page-number"


@pytest.mark.parametrize(
    ("name", "address"),
    [
        ("fastapi_pages", "/captures.html?page=2"),
        ("flask_pages", "/arrivals.html"),
        ("django_pages", "/captures.html?page=2"),
        ("fastapi_pages", "/listings/captures?page=2"),
    ],
)
def test_server_rendered_pages(load, name, address):
    with client_of(name, load) as client:
        text = client.get(address).text
    if "/listings/" in address:
        assert '"next":"/listings/captures?' in text
        return
    assert text.lstrip().startswith("<!doctype html>")
    assert 'rel="next"' in text
    assert "L1" in text


@pytest.mark.slow
def test_a_batch_export_resumes(larkmere_file, tmp_path):
    script = [
        sys.executable,
        EXAMPLES / "batch" / "pandas_export.py",
        larkmere_file,
        tmp_path / "out",
    ]
    done = subprocess.run(script, capture_output=True, text=True, check=True)
    assert done.stdout.startswith("20,000 rows in ")
    assert len(list((tmp_path / "out").glob("*.csv"))) == 4
    again = subprocess.run(script, capture_output=True, text=True, check=True)
    assert again.stdout.startswith("0 rows in ")
    assert len(list((tmp_path / "out").glob("*.csv"))) == 4
