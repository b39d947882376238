"""`vrelko about`: every term and code that a user meets can be asked about."""

import json
import re
import tomllib
from pathlib import Path

import pytest
from click.testing import CliRunner

from vrelko.cli.about import _ALSO, find_entry, read_entries
from vrelko.cli.main import main
from vrelko.core.findings import CODES
from vrelko.core.strategies import STRATEGIES

ROOT = Path(__file__).parent.parent
TERMS = (
    "offset, keyset, deferred join, two-ended, anchors, ceiling, overlap, frozen, settle, repeat, "
    "miss, total kinds, cursor binding, walk, drift, Verdict, 90 % interval, p95, access_path"
)


def asked(*words):
    return CliRunner().invoke(main, ["about", *words])


@pytest.mark.parametrize("term", [*TERMS.split(", "), *STRATEGIES, *_ALSO])
def test_terms_are_explained_however_they_are_written(term):
    done = asked(*term.split())
    assert done.exit_code == 0, done.output
    assert "(term)" in done.output
    assert len(done.output.splitlines()) > 2


def test_all_codes_are_explained_as_the_docs_do():
    entries = read_entries()
    assert {one.name for one in entries.values() if one.kind == "finding"} == set(CODES)
    pages = {
        kind: (ROOT / "docs" / page).read_text()
        for kind, page in (("term", "terms.md"), ("finding", "findings.md"), ("error", "errors.md"))
    }
    for entry in entries.values():
        assert find_entry(entry.name) == entry
        first = entry.text.partition("\n")[0].rstrip(".").lower()
        assert first[:60] in pages[entry.kind].lower(), entry.name
    shown = json.loads(asked("--json").output)
    assert len(shown["errors"]) > 100
    listed = asked().output
    assert all(name in listed for name in (*shown["terms"], *shown["findings"]))


def test_an_error_ends_with_the_code_to_ask_about(tmp_path):
    done = CliRunner().invoke(main, ["plan", str(tmp_path / "none.toml")])
    code = re.search(r"\[([a-z-]+)\]$", done.stderr.strip())
    assert code, done.stderr
    told = asked("--json", code[1])
    assert json.loads(told.output)["kind"] == "error"


def test_an_unknown_word_leads_to_the_nearest():
    done = asked("kayset")
    assert done.exit_code == 2
    assert "Did you mean 'keyset'?" in done.stderr


def test_a_wheel_holds_the_texts():
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())
    held = project["tool"]["hatch"]["build"]["targets"]["wheel"]["force-include"]
    assert set(held) == {f"docs/{page}.md" for page in ("terms", "findings", "errors")}
    assert all((ROOT / page).is_file() for page in held)
