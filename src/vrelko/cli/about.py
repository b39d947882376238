"""`vrelko about`: terms, findings and errors in plain words, from the text of the docs."""

from __future__ import annotations

import json
import re
import textwrap
from dataclasses import dataclass
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING

import click

import vrelko
from vrelko.cli.options import json_option
from vrelko.errors import PageError, nearest

if TYPE_CHECKING:
    from importlib.resources.abc import Traversable

_ALSO = {
    "binding": "cursor",
    "cursor-binding": "cursor",
    "deferred": "deferred-join",
    "frozen": "frozen-list",
    "frozen-ids": "frozen-list",
    "frozen-view": "frozen-list",
    "interval": "90-%-interval",
    "access-paths": "access-path",
    "total-kinds": "total",
    "capped": "total",
    "exact": "total",
    "reads": "work",
}
"""Other words for a term."""


@dataclass(frozen=True, slots=True)
class Entry:
    """One thing that can be asked about: its name, "term", "finding" or "error", and its text."""

    name: str
    kind: str
    text: str


def read_entries() -> dict[str, Entry]:
    """Return all that can be asked about, by its name as it is looked up."""
    found = {}
    for kind, page in (("term", "terms.md"), ("finding", "findings.md")):
        for name, text in _sections(_page(page)):
            found[_plain(name)] = Entry(name, kind, text)
    # The docs' own table is the one list of codes: what is said here cannot differ from it.
    for title, text in _sections(_page("errors.md")):
        for code, when in re.findall(r"^\| `([a-z-]+)` \| (.*) \|$", text, re.MULTILINE):
            group = title.removeprefix("For the ").partition(":")[0]
            told = f"{when[:1].upper()}{when[1:]}.\n\nAn error for the {group}."
            # A word that is a term as well is explained as that.
            found.setdefault(_plain(code), Entry(code, "error", told))
    return found


def find_entry(word: str) -> Entry:
    """Return what a word names. Raises PageError with the nearest words."""
    known = read_entries()
    plain = _plain(word)
    # Some write the plural, or the word that the field has beside ours.
    for name in (plain, _ALSO.get(plain, ""), plain.removesuffix("s"), _ALSO.get(plain[:-1], "")):
        if name in known:
            return known[name]
    raise PageError(
        f"there is no term or code {word!r}",
        nearest(word, [entry.name for entry in known.values() if entry.kind == "term"]),
        "about-unknown",
    )


@click.command()
@click.argument("term", nargs=-1)
@json_option
def about(term: tuple[str, ...], as_json: bool) -> None:
    """Explain a term, a finding's code or an error's code; without one, list them."""
    if not term:
        _list(as_json)
        return
    entry = find_entry(" ".join(term))
    if as_json:
        click.echo(json.dumps({"name": entry.name, "kind": entry.kind, "text": entry.text}))
        return
    from rich.console import Console
    from rich.markdown import Markdown
    from rich.theme import Theme

    click.secho(f"{entry.name} ({entry.kind})", bold=True)
    plain = Theme({"markdown.code": "bold", "markdown.code_block": "bold"})
    Console(width=min(Console().width, 100), theme=plain).print(Markdown(entry.text))


def _list(as_json: bool) -> None:
    known = read_entries().values()
    names = {
        f"{kind}s": [one.name for one in known if one.kind == kind]
        for kind in ("term", "finding", "error")
    }
    if as_json:
        click.echo(json.dumps(names))
        return
    for title in ("terms", "findings"):
        click.secho(title, bold=True)
        listed = ", ".join(sorted(names[title]))
        click.echo(textwrap.indent(textwrap.fill(listed, 98, break_on_hyphens=False), "  "))
    click.secho("errors", bold=True)
    click.echo(f"  {len(names['errors'])} codes; each message ends with its own, in brackets")
    click.echo("\n`vrelko about TERM` or `vrelko about CODE` explains one.")


def _page(name: str) -> str:
    """Return a page of the docs: of the package, or beside the sources of an editable one."""
    inside: Traversable = files("vrelko") / "texts" / name
    # Installed, the docs lie in the package; in a checkout, beside it.
    if inside.is_file():
        return inside.read_text(encoding="utf-8")
    return (Path(vrelko.__file__).parents[2] / "docs" / name).read_text(encoding="utf-8")


def _sections(text: str) -> list[tuple[str, str]]:
    parts = re.split(r"^## (.+)$", text, flags=re.MULTILINE)[1:]
    return [
        (name.strip(), body.strip()) for name, body in zip(parts[::2], parts[1::2], strict=True)
    ]


def _plain(name: str) -> str:
    return re.sub(r"[\s_]+", "-", name.strip().lower())
