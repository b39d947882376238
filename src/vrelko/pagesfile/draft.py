"""A pages file to start from: written from a catalog, or from the page queries that a team has."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from sqlalchemy import Engine, inspect

from vrelko.core.facts import Facts, TableFacts
from vrelko.core.listing_drafts import ListingDraft, draft_listings
from vrelko.engines.registry import database_errors
from vrelko.errors import PagesFileError
from vrelko.pagesfile.described import without_password
from vrelko.pagesfile.queries import read_query

_BARE = re.compile(r"[A-Za-z0-9_-]+")
_NUMBERS = ("INT", "NUM", "DEC", "REAL", "DOUB", "FLOA", "SERIAL")


def draft_pages(engine: Engine, facts: Facts, source: str) -> str:
    """Return a pages file with the listings that tables suggest, each with its reason.

    `source`: the URL that stands under [source]. Reads foreign keys from the catalog; raises
    DatabaseError.
    """
    parts = [_head(source)]
    for table in sorted(facts.tables, key=lambda one: -one.rows):
        with database_errors("reading of the catalog"):
            keys = inspect(engine).get_foreign_keys(table.bare_name, schema=table.schema)
        references = frozenset(name for key in keys for name in key["constrained_columns"])
        drafts = list(draft_listings(table, references))
        if not drafts:
            parts.append(
                f"# {table.name}: nothing identifies its rows. Add a primary key, or name the\n"
                f"# columns that do with unique = […].\n"
            )
        parts += ["\n".join(_lines(one, table)) + "\n" for one in drafts]
    return "\n".join(parts)


def draft_queries(text: str, source: str, grammar: str) -> str:
    """Return a pages file with a listing for each page query of a text. Raises PagesFileError."""
    parts = [_head(source)]
    for number, statement in enumerate(_statements(text), 1):
        shown = " ".join(statement.split())
        told = f"# {shown if len(shown) < 96 else shown[:93] + '...'}\n"
        if re.match(r"(?is)select\s+count\s*\(", statement):
            parts.append(f'{told}# counts rows: a listing\'s total does that (total = "exact").\n')
            continue
        try:
            read = read_query(statement, grammar)
        except PagesFileError as error:
            parts.append(f"{told}# not read: {error.what}\n")
            continue
        name = f"{_plain(read.table.rpartition('.')[2]) if read.table else 'query'}_{number}"
        lines = [f"[listing.{name}]"]
        if read.table is not None:
            lines.append(f"table  = {json.dumps(read.table)}")
            if read.columns:
                lines.append(f"columns = {json.dumps(read.columns)}")
            if read.where:
                lines.append(f"where  = {_inline(read.where)}")
        else:
            lines += [f"sql    = {json.dumps(read.sql)}",
                      "unique = []   # name the columns that identify a row"]  # fmt: skip
        if read.orders:
            lines.append(f"orders = {json.dumps(read.orders)}")
        if read.paged == "offset":
            lines.append("# pages by OFFSET today: `vrelko plan` says what that costs further down")
        names = sorted(set(re.findall(r":(\w+)", _inline(read.where) if read.table else read.sql)))
        if names:
            lines.append(_asked(names))
        parts.append(told + "\n".join(lines) + "\n")
    return "\n".join(parts)


def _head(source: str) -> str:
    shown = without_password(source)
    if shown != source:
        where = (
            f'url_env = "DATABASE_URL"   # {shown}: the variable that holds it, password and all'
        )
    else:
        where = f"url = {json.dumps(source)}"
    return (
        "# A pages file to start from: change it as you like, then run `vrelko plan` with it.\n"
        "# What each key means: docs/pages-file.md\n\n"
        f"[source]\n{where}\n"
    )


def _statements(text: str) -> Iterator[str]:
    """Yield the statements of a text, comments left out; a semicolon in quotes ends none."""
    bare = re.sub(r"--[^\n]*|/\*.*?\*/", " ", text, flags=re.S)
    for part in re.findall(r"(?:[^;'\"]|'(?:[^']|'')*'|\"[^\"]*\")+", bare):
        if part.strip():
            yield part.strip()


def _lines(draft: ListingDraft, table: TableFacts) -> Iterable[str]:
    yield f"# {draft.why}"
    yield f"[listing.{_plain(draft.name)}]"
    if draft.kind != "grid":
        yield f"kind    = {json.dumps(draft.kind)}"
    yield f"table   = {json.dumps(draft.table)}"
    if draft.columns:
        yield f"columns = {_list(draft.columns)}"
    if draft.where:
        yield f"where   = {_inline(draft.where)}"
    if draft.filters:
        yield f"filters = {_inline(draft.filters)}   # applied only when given"
    if draft.search:
        yield f'search  = {{ columns = {_list([draft.search])}, how = "prefix" }}'
    yield f"orders  = {_list(draft.orders)}   # allowed ones, the default first"
    if draft.kind in ("grid", "feed"):
        yield "sizes   = { default = 25, max = 200 }"
    if draft.where:
        values = {name: _typed(draft.params.get(name), table, name) for name in draft.where}
        known = {name: value for name, value in values.items() if value is not None}
        if known:
            yield f"params  = {_inline(known)}   # a common value"
        else:
            yield _asked(values)
    if draft.kind == "grid":
        yield "# readers = { pages_per_minute = 60, users = 10, depth = { mean = 4 } }   # assumed"
        yield "# writers = { inserts_per_minute = 30, deletes_per_minute = 2 }   # assumed: none"


def _asked(names: Iterable[str]) -> str:
    """Return the comment that asks for typical values of parameters."""
    return f"# params = {{ {', '.join(f'{name} = …' for name in names)} }}   # typical values"


def _typed(value: str | None, table: TableFacts, name: str) -> Any:
    if value is None:
        return None
    kind = table.column(name).type.upper()
    if any(part in kind for part in _NUMBERS):
        try:
            number = float(value)
        except ValueError:
            return value
        return int(number) if number.is_integer() else number
    return value


def _plain(name: str) -> str:
    return re.sub(r"[^A-Za-z0-9_]+", "_", name).strip("_") or "listing"


def _list(names: Sequence[str]) -> str:
    return json.dumps(list(names), ensure_ascii=False)


def _inline(values: Mapping[str, Any]) -> str:
    """Return an inline table of TOML."""
    parts = []
    for name, value in values.items():
        key = name if _BARE.fullmatch(name) else json.dumps(name, ensure_ascii=False)
        shown = _inline(value) if isinstance(value, dict) else json.dumps(value, ensure_ascii=False)
        parts.append(f"{key} = {shown}")
    return f"{{ {', '.join(parts)} }}"
