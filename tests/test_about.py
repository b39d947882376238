"""`vrelko about`: every term and code that a user meets can be asked about."""

import ast
import json
import re
import tomllib
from pathlib import Path

import pytest
from click.testing import CliRunner

import vrelko
from vrelko import errors
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


VALUELESS = re.compile(
    r"cursor-(altered|version|foreign|expired|lost)|secret-short|frozen-(over|full|scope)|spot-(own|row)"
    r"|.*-(pickled|missing|unbound|unset|memory|nothing|extra|async|reached|unread|misfit)"
    r"|row-unreadable|session-shards|database-changed"
    r"|writes-table|log-lines|page-more|engine-unserved|database-url|time-limit-unavailable"
    r"|drift-dwell|replay-.*|pages-database|anchors-none|steady-overlap|settle-column|filter-select"
    r"|shards-ceiling|order-(twice|unproven|expression)|select-.*|search-columns|web-(hosts|async)"
    r"|web-position|web-parameter|spot-value|demo-.*|listing-busy|walk-until"
)
"""Codes of errors that name no value: it is secret, missing, or the whole of what was given."""


def raised():
    """Every error that the package makes: where, what it says, and what it says to do."""
    kinds = {name for name in dir(errors) if name.endswith("Error")}
    for path in sorted(Path(vrelko.__file__).parent.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            made = isinstance(node, ast.Call) and getattr(node.func, "id", "") in kinds
            if made and not any(isinstance(one, ast.Starred) for one in node.args):
                yield f"{path.name}:{node.lineno}", node.args


def test_every_error_states_its_value_and_a_next_step():
    known = {entry.name for entry in read_entries().values() if entry.kind != "term"}
    many, bare = 0, []
    for place, given in raised():
        assert len(given) == 3, f"{place}: what is wrong, what to do, the code"
        what, todo, code = given
        many += 1
        assert not (isinstance(todo, ast.Constant) and len(todo.value.split()) < 2), place
        if not isinstance(code, ast.Constant):
            continue
        assert code.value in known, f"{place}: {code.value} is not explained"
        if isinstance(what, ast.Constant) and not VALUELESS.fullmatch(code.value):
            bare.append(f"{place}: {code.value}: {what.value}")
    assert many > 200
    assert not bare
