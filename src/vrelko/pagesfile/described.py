"""Listings that no file describes yet: a table or a query of a database."""

from __future__ import annotations

import re
import shlex
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import count
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError

from vrelko.engines.registry import record_for
from vrelko.errors import PagesFileError
from vrelko.pagesfile.load import Pages, load, load_model
from vrelko.pagesfile.queries import read_query, read_where
from vrelko.pagesfile.schema import PagesModel
from vrelko.pagesfile.source import is_pages_file

_NAME = re.compile(r"[^A-Za-z0-9_]+")


@dataclass(frozen=True, slots=True, kw_only=True)
class Described:
    """What is said of a listing beside the name of its table.

    `orders` and `where` as in a pages file and in SQL, `params` typical values by name, `query` a
    SELECT instead of a table. `unique` names what identifies its rows.
    """

    orders: Sequence[str] = ()
    where: str = ""
    size: int | None = None
    params: Mapping[str, str] = field(default_factory=dict)
    query: str = ""
    unique: Sequence[str] = ()

    @property
    def given(self) -> list[str]:
        """The options that were given."""
        # By the options' names: the message repeats what was typed.
        named = {
            "--order": self.orders, "--where": self.where, "--size": self.size,
            "--param": self.params, "--query": self.query, "--unique": self.unique,
        }  # fmt: skip
        return [name for name, value in named.items() if value]

    def words(self, tables: Sequence[str]) -> str:
        """Return the arguments that say this again on a command line, "" where nothing was said."""
        if not self.given:
            return ""
        single = {"where": self.where, "query": self.query, "size": self.size}
        parts = [f"--order={one}" for one in self.orders]
        parts += [f"--{name}={value}" for name, value in single.items() if value]
        parts += [f"--unique={one}" for one in self.unique]
        parts += [f"--param={name}={value}" for name, value in self.params.items()]
        return shlex.join([*tables, *parts])


def load_source(
    source: str, names: Sequence[str], described: Described, *, pool: int | None = None
) -> tuple[Pages, list[str]]:
    """Return the listings of a pages file, or of tables or a query of a database, and their names.

    `source`: a pages file, a database URL or the path of an SQLite file. Raises PagesFileError and
    DatabaseError.
    """
    if is_pages_file(source):
        if described.given:
            raise PagesFileError(
                f"{described.given[0]} describes a listing of a database, and {source!r} is a "
                "pages file, which describes its own",
                "Write it into the file, or name the database",
                "source-options",
            )
        # Named listings, or all that the file has.
        loaded = load(source, pool=pool)
        return loaded, list(names or loaded)
    # Either tables or a query, and one of them.
    if bool(described.query) == bool(names):
        raise PagesFileError(
            f"{without_password(source)!r} is a database: name one of its tables, or give --query",
            "vrelko plan DATABASE TABLE --order=-created_at; `vrelko survey` lists the tables",
            "source-table",
        )
    found: dict[str, Any] = {}
    for table in names:
        found[listing_name(table, found)] = _of_table(table, source, described)
    if described.query:
        found["query"] = _of_query(source, described)
    # Through the model of a pages file, so that both are held to the same rules.
    data = {"source": {"url": address_for(source)}, "listing": found}
    try:
        model = PagesModel.model_validate(data)
    except ValidationError as error:
        # The first two parts are "listing" and its name, which nobody typed.
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"][2:])
        shown = without_password(source)
        raise PagesFileError(
            f"the listing of {shown!r} cannot be described so: {where}: {first['msg']}",
            "Correct the option",
            "source-options",
        ) from error
    # The path stands in messages alone: nothing is read from it.
    loaded = load_model(Path("the command line"), model, pool=pool)
    return loaded, list(loaded)


def listing_name(table: str, taken: Collection[str]) -> str:
    """Return a name for a listing that needs no quotes and is not taken yet."""
    name = _NAME.sub("_", table).strip("_") or "listing"
    numbered = (f"{name}_{number}" for number in count(2))
    return name if name not in taken else next(one for one in numbered if one not in taken)


def _of_table(table: str, source: str, described: Described) -> dict[str, Any]:
    found: dict[str, Any] = {"table": table, "kind": "grid", "params": dict(described.params)}
    if described.where:
        found["where"] = read_where(described.where, record_for(source))
    if described.orders:
        found["orders"] = list(described.orders)
    return {**found, **_shared(described)}


def _of_query(source: str, described: Described) -> dict[str, Any]:
    # --query takes either, as a shell mangles a query with quotes in it.
    text = described.query
    path = Path(text)
    # A file's name, not a query: no query ends in .sql.
    if len(text) < 300 and path.suffix.lower() == ".sql" and path.is_file():
        text = path.read_text(encoding="utf-8")
    read = read_query(text, record_for(source))
    if read.order is None and not described.orders:
        raise PagesFileError(
            "the query sorts by an expression, not by a column",
            "Name its order with --order; a column of the query may be an expression",
            "query-unread",
        )
    orders = list(described.orders) or ([read.order] if read.order else [])
    found: dict[str, Any] = {"kind": "grid", "orders": orders, "params": dict(described.params)}
    if read.table is not None:
        # As a table it is planned with its indexes and statistics; as text only by what the server
        # explains.
        found |= {"table": read.table, "columns": read.columns, "where": read.where}
    else:
        found |= {"sql": read.sql}
    return {**found, **_shared(replace(described, size=described.size or read.size))}


def _shared(described: Described) -> dict[str, Any]:
    # Whoever plans on a command line reads the key in any case.
    found: dict[str, Any] = {"expose": True}
    if described.size is not None:
        found["sizes"] = {"default": described.size, "max": max(described.size, 200)}
    if described.unique:
        found["unique"] = list(described.unique)
    return found


def without_password(source: str) -> str:
    """Return what a command was given as it may be shown."""
    if "://" not in source:
        return source
    try:
        return make_url(source).render_as_string(hide_password=True)
    except (ArgumentError, ValueError):
        # What cannot be read as a URL may still hold a password somewhere.
        return source.partition("://")[0] + "://…"


def address_for(source: str) -> str:
    """Return the URL of what a command was given, for a pages file wherever it stands."""
    # Absolute, or a pages file kept elsewhere would look for the database beside itself.
    return source if "://" in source else f"sqlite:///{Path(source).absolute()}"
