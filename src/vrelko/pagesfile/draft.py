"""A pages file to start from: written from a catalog, or from the page queries that a team has."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, inspect
from sqlalchemy.exc import NoSuchTableError

from vrelko.core.facts import Facts, TableFacts
from vrelko.core.listing_drafts import ListingDraft, draft_listings
from vrelko.engines.registry import database_errors, engine_of
from vrelko.errors import DatabaseError, PagesFileError, VrelkoError
from vrelko.pagesfile.described import listing_name, without_password
from vrelko.pagesfile.load import load_model
from vrelko.pagesfile.queries import PageQuery, read_query, split_statements
from vrelko.pagesfile.schema import PagesModel

_BARE = re.compile(r"[A-Za-z0-9_-]+")
# By parts of a name: engines have INTEGER, bigint, DOUBLE PRECISION, decimal(10,2) and more.
_NUMBERS = ("INT", "NUM", "DEC", "REAL", "DOUB", "FLOA", "SERIAL")
_NOTES = {
    "filters": "applied only when given",
    "orders": "allowed ones, the default first",
    "expose": "cursors may show key columns that the query does not",
    "params": "a common value",
    "periods": "archives by year, month and day",
    "unique": "name the columns that identify a row",
}
"""What is said behind a key."""

_ASSUMED = (
    "# readers = { pages_per_minute = 60, users = 10, depth = { mean = 4 } }   # assumed",
    "# writers = { inserts_per_minute = 30, deletes_per_minute = 2 }   # assumed: none",
)
_MOST_SHOWN = 96  # characters of a query


def draft_pages(engine: Engine, facts: Facts, source: str) -> str:
    """Return a pages file with the listings that tables suggest, each with its reason.

    `source`: the URL that stands under [source]. Reads foreign keys from the catalog; a listing
    that could not be served as it stands becomes a comment. Raises DatabaseError.
    """
    parts = [_head(source)]
    names: set[str] = set()
    # The largest first: those are what paging is for.
    for table in sorted(facts.tables, key=lambda one: -one.rows):
        with database_errors("reading of the catalog"):
            keys = inspect(engine).get_foreign_keys(table.bare_name, schema=table.schema)
        # Readers filter by what a column refers to, far more often than by what it holds itself.
        references = frozenset(name for key in keys for name in key["constrained_columns"])
        drafts = list(draft_listings(table, references))
        if not drafts:
            parts.append(
                f"# {table.name}: nothing identifies its rows. Add a primary key, or name the\n"
                "# columns that do with unique = […].\n"
            )
        for one in drafts:
            name = listing_name(one.name, names)
            names.add(name)
            parts.append(_of_table(engine, name, one, table))
    return "\n".join(parts)


def draft_queries(engine: Engine, text: str, source: str, dialect: str | None = None) -> str:
    """Return a pages file with a listing for each page query of a text. Raises PagesFileError.

    `dialect`: what the text is written for, where that is not the engine of the database.
    """
    # The database's own grammar, unless the team's queries were written for another.
    record = engine_of(engine)
    parts = [_head(source)]
    for number, statement in enumerate(split_statements(text, record, dialect), 1):
        shown = " ".join(statement.split())
        told = shown if len(shown) < _MOST_SHOWN else f"{shown[: _MOST_SHOWN - 3]}..."
        try:
            # What cannot be read stays in the file with the reason: a team can see that no query is
            # missing.
            read = read_query(statement, record, dialect)
        except PagesFileError as error:
            parts.append(f"# {told}\n# not read: {error.what}\n")
            continue
        if read.counts:
            parts.append(
                f'# {told}\n# counts rows: a listing\'s total does that (total = "exact")\n'
            )
            continue
        parts.append(_of_query(engine, number, told, read))
    return "\n".join(parts)


def _head(source: str) -> str:
    shown = without_password(source)
    where = f"url = {json.dumps(source)}"
    # No password stands in a file that is kept with the code.
    if shown != source:
        # (The comment shows it without the password.)
        where = f'url_env = "DATABASE_URL"   # the variable that holds {shown}, with its password'
    return (
        "# A pages file to start from: change it as you like, then run `vrelko plan` with it.\n"
        "# What each key means: docs/pages-file.md\n\n"
        f"[source]\n{where}\n"
    )


def _of_table(engine: Engine, name: str, draft: ListingDraft, table: TableFacts) -> str:
    found: dict[str, Any] = {"table": draft.table, "columns": draft.columns, "where": draft.where}
    found |= {"filters": draft.filters, "orders": draft.orders}
    if draft.kind != "grid":
        found = {"kind": draft.kind, **found}
    if draft.search:
        found["search"] = {"columns": [draft.search], "how": "prefix"}
    if draft.kind in ("grid", "feed"):
        found["sizes"] = {"default": 25, "max": 200}
    if draft.periods:
        found["periods"] = draft.periods
    found["params"] = {key: _typed(value, table, key) for key, value in draft.params.items()}
    # Statistics may know no common value; the file says so rather than make one up.
    missing = [key for key in draft.where if key not in draft.params]
    # Loads are said once a table: feeds and pickers beside its grid have the same readers.
    return _block(engine, name, [draft.why], found, missing, _ASSUMED[: 2 * (draft.kind == "grid")])


def _of_query(engine: Engine, number: int, told: str, read: PageQuery) -> str:
    found: dict[str, Any] = {"table": read.table, "columns": read.columns, "where": read.where}
    why = [told]
    name = listing_name(f"{read.table.rpartition('.')[2] if read.table else 'query'}_{number}", ())
    if read.columns:  # which may leave out what it sorts by, or its key
        found["expose"] = True
    if read.table is None:
        found = {"sql": read.sql, "unique": _key_of(engine, read)}
    if read.order is None:
        why.append("sorts by an expression: name its order with orders = […]")
    found["orders"] = [read.order] if read.order else []
    if read.size:
        found["sizes"] = {"default": read.size, "max": max(read.size, 200)}
    if read.paged == "offset":
        why.append("pages by OFFSET today: `vrelko plan` says what that costs further down")
    if read.paged == "key":
        why.append("begins behind a key today: the listing's cursors carry it")
    return _block(engine, name, why, found, read.params)


def _key_of(engine: Engine, read: PageQuery) -> list[str]:
    """Return the primary key of the table whose rows a query shows, where it shows that, too."""
    if read.rows_of is None:
        return []
    schema, _, table = read.rows_of.rpartition(".")
    try:
        with database_errors("reading of the catalog"):
            key = inspect(engine).get_pk_constraint(table, schema=schema or None)
    except (DatabaseError, NoSuchTableError):
        return []
    names = list(key["constrained_columns"])
    # A key that the query does not show is in none of its rows.
    return names if not read.shown or set(names) <= set(read.shown) else []


def _block(
    engine: Engine,
    name: str,
    why: Iterable[str],
    found: Mapping[str, Any],
    asked: Iterable[str] = (),
    more: Iterable[str] = (),
) -> str:
    """Return a listing as TOML, or why it cannot be one; `asked`: parameters without a value."""
    told = [f"# {one}" for one in why]
    # An empty `unique` waits for its reader; other empty keys say nothing.
    kept = {key: value for key, value in found.items() if value or key == "unique"}
    if kept.get("unique", True):  # else it waits for its reader to name them
        try:
            # Loaded as it would be by a user: a draft that is refused is worse than none.
            model = PagesModel.model_validate({"listing": {name: kept}})
            load_model(Path("draft"), model, engine)
        except (VrelkoError, ValueError) as error:
            said = error.what if isinstance(error, VrelkoError) else str(error)
            return "\n".join([*told, f"# {name} is not proposed: {' '.join(said.split())}"]) + "\n"
    lines = [f"{key:<7} = {_toml(value)}{_note(key)}" for key, value in kept.items()]
    names = ", ".join(f"{one} = …" for one in asked)
    lines += [f"# params = {{ {names} }}   # typical values"] if names else []
    block = [f"[listing.{name}]", *lines, *more]
    if not kept.get("unique", True):  # the rest of the file is planned without it
        told.append("# nothing tells what identifies its rows: name that, then take the # away")
        block = [f"# {line.removeprefix('# ')}" for line in block]
    return "\n".join([*told, *block]) + "\n"


def _note(key: str) -> str:
    return f"   # {_NOTES[key]}" if key in _NOTES else ""


def _typed(value: str, table: TableFacts, name: str) -> Any:
    """Return a common value, which statistics have as text, as its column has it."""
    kind = table.column(name).type.upper()
    try:
        number = float(value) if any(part in kind for part in _NUMBERS) else None
    except ValueError:
        return value
    # Statistics write 3 as 3.0 now and then.
    return value if number is None else int(number) if number.is_integer() else number


def _toml(value: Any) -> str:
    """Return a value as TOML, which has JSON's texts, numbers and lists, and tables inline."""
    if isinstance(value, Mapping):
        return f"{{ {', '.join(_pairs(value))} }}"
    return json.dumps(value, ensure_ascii=False)


def _pairs(values: Mapping[str, Any]) -> Iterator[str]:
    for name, value in values.items():
        key = name if _BARE.fullmatch(name) else json.dumps(name, ensure_ascii=False)
        yield f"{key} = {_toml(value)}"
