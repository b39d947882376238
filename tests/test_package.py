"""The package as a whole: light imports, documented codes, examples that run."""

import ast
import importlib
import pickle
import re
import subprocess
import sys
from importlib.util import find_spec
from pathlib import Path

import pytest
from click.testing import CliRunner

import generate
import vrelko
import vrelko.web
from vrelko.cli.main import main
from vrelko.core.findings import CODES
from vrelko.engines.troubles import TROUBLES
from vrelko.errors import CursorError

ROOT = Path(__file__).parent.parent
HEAVY = ("numpy", "scipy", "pydantic", "pandas", "matplotlib", "starlette", "jinja2")


@pytest.mark.parametrize(
    ("statement", "absent"),
    [
        ("import vrelko", (*HEAVY, "sqlalchemy", "click", "rich")),
        ("import vrelko; vrelko.Listing, vrelko.Spot, vrelko.Sizes, vrelko.plan", HEAVY),
        (
            "import vrelko.web; vrelko.web.request_from, vrelko.web.page_urls, vrelko.web.body_of",
            HEAVY,
        ),
        (
            "from vrelko.cli.main import main; main(['--help'], standalone_mode=False)",
            (*HEAVY, "sqlalchemy", "rich"),
        ),
    ],
)
def test_imports_stay_light(statement, absent):
    code = f"import sys\n{statement}\nprint([m for m in {absent!r} if m in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip().endswith("[]"), done.stdout


def test_every_public_name_loads_and_says_what_it_is():
    for module in (vrelko, vrelko.web):
        for name in module.__all__:
            assert getattr(module, name).__doc__
    with pytest.raises(AttributeError):
        vrelko.nonsense  # noqa: B018


def test_every_finding_and_error_code_is_documented():
    findings = (ROOT / "docs" / "findings.md").read_text()
    for code in CODES:
        assert f"## {code}\n" in findings, code
    errors = (ROOT / "docs" / "errors.md").read_text()
    documented = set(re.findall(r"^\| `([a-z-]+)`", errors, re.M))
    raised = {code for path in (ROOT / "src").rglob("*.py") for code in codes_in(path)}
    raised |= {code for _, _, code in TROUBLES}
    raised |= {f"{what}-number" for what in ("page", "offset", "size", "total")}
    raised |= {f"{extra}-extra" for extra in ("report", "web")}
    assert len(raised) > 50
    assert raised == documented


def codes_in(path):
    """Yield the last argument of every error that is made in a file."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Call) and getattr(node.func, "id", "").endswith("Error"):
            code = node.args[-1] if len(node.args) == 3 else None
            if isinstance(code, ast.Constant):
                yield code.value


def test_errors_travel_between_processes():
    error = CursorError("what", "Do this", "some-code")
    again = pickle.loads(pickle.dumps(error))
    assert (str(again), again.code) == ("what. Do this.", "some-code")


@pytest.fixture(scope="module")
def demo_folder(tmp_path_factory, few_simulated):
    folder = tmp_path_factory.mktemp("readme")
    arguments = ["demo", "--rows", "20000", "--walks", "1", "--json"]
    done = CliRunner().invoke(main, [*arguments, "--folder", str(folder / "larkmere")])
    assert done.exit_code == 0, done.output
    return folder


@pytest.mark.slow
def test_the_readme_example_prints_what_it_shows(demo_folder):
    readme = (ROOT / "README.md").read_text()
    blocks = re.findall(r"```python\n(.*?)```", readme, re.S)
    assert blocks
    for block in blocks:
        done = subprocess.run(
            [sys.executable, "-c", block], cwd=demo_folder, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        assert done.stdout


@pytest.mark.slow
def test_the_example_script_runs(demo_folder):
    for script in sorted((ROOT / "examples").glob("*.py")):
        done = subprocess.run(
            [sys.executable, script], cwd=demo_folder, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        assert "26–50 of" in done.stdout
        assert "Traceback" not in done.stderr


def test_benches_import_what_there_is():
    """They run by hand, so nothing else would notice a name that has moved."""
    for path in sorted((ROOT / "bench").rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("vrelko"):
                module = importlib.import_module(node.module)
                for one in node.names:
                    found = hasattr(module, one.name) or find_spec(f"{node.module}.{one.name}")
                    assert found, (path.name, node.module, one.name)


def test_every_generator_is_run_by_make_docs():
    named = {script for steps in generate.GENERATORS.values() for script, *_ in steps}
    assert all((ROOT / script).exists() for script in named)
    by_hand = {"tests/kept.py"}  # which writes a folder that is never written again
    for folder in ("tests", "bench"):
        for path in (ROOT / folder).rglob("*.py"):
            script, words = path.relative_to(ROOT).as_posix(), path.read_text()
            writes = re.search(r"^\s+(PAGE|PATH|path)\.write_text\(|savefig\(", words, re.M)
            if writes and '__name__ == "__main__"' in words and "/docs/" not in script:
                assert script in named | by_hand, f"{script} is not in tests/generate.py"
    assert "tests/generate.py" in (ROOT / "Makefile").read_text()


def test_the_readme_links_what_there_is():
    readme = (ROOT / "README.md").read_text()
    for target in re.findall(r"\]\(([^)#:]+)\)", readme):
        assert (ROOT / target).exists(), target
    for shot in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{shot.name}" in readme


def test_documents_name_modules_that_there_are():
    source, missing = ROOT / "src" / "vrelko", []
    known = {
        path.relative_to(base).as_posix()
        for base in (source, ROOT)
        for path in base.rglob("*.py")
        if "venv" not in path.as_posix()
    }
    layers = "core|sql|engines|serving|planning|measuring|web|cli|surveying|pagesfile|reporting"
    dotted = re.compile(rf"`(?:vrelko\.)?((?:{layers})(?:\.[a-z_]+)+)`")
    for page in [*ROOT.glob("*.md"), *(ROOT / "docs").rglob("*.md")]:
        words = page.read_text()
        files = re.findall(r"`([a-z_]+(?:/[a-z_]+)*\.py)`", words)
        missing += [
            (page.name, one) for one in files if not any(f"/{k}".endswith(f"/{one}") for k in known)
        ]
        for name in dotted.findall(words):
            module, _, last = f"vrelko.{name}".rpartition(".")
            found = find_spec(module) is not None and (
                hasattr(importlib.import_module(module), last) or find_spec(f"{module}.{last}")
            )
            missing += [] if found else [(page.name, name)]
    assert missing == []
