"""Pages files: listings described in TOML, with where their data is and how it is used."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from sqlalchemy import Column, Engine, Subquery, Table, and_, bindparam, select
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError

from vrelko.core.arithmetic import Sizes
from vrelko.core.facts import Facts
from vrelko.core.workload import Depth, Landing, Needs, Readers, Use, Workload, Writers
from vrelko.engines.registry import open_database
from vrelko.errors import PagesFileError, VrelkoError, nearest
from vrelko.serving.listing import Listing
from vrelko.serving.pages_models import CONDITION, ListingModel, PagesModel, Range
from vrelko.serving.pages_steady import steady_of
from vrelko.serving.pages_tables import (
    read_facts,
    reflect_table,
    table_of_facts,
    table_of_sql,
)
from vrelko.sql.searching import Search

_COMPARISONS = {"ge": "__ge__", "gt": "__gt__", "le": "__le__", "lt": "__lt__"}


class Pages(Mapping[str, Listing]):
    """The listings of a pages file by name, and an Engine on their database, for reading only.

    `facts` are those that the file names instead of a database; None where it names one.
    `anchor_files` are where anchors are stored, by listing; `web` the settings of those that say
    how they speak HTTP, as `vrelko.web.Wire` takes them.
    """

    def __init__(
        self,
        path: Path,
        engine: Engine | None,
        listings: Mapping[str, Listing],
        facts: Facts | None = None,
        anchor_files: Mapping[str, Path] | None = None,
        web: Mapping[str, Mapping[str, Any]] | None = None,
    ) -> None:
        self.web = dict(web or {})
        self.anchor_files = dict(anchor_files or {})
        self.path = path
        self.facts = facts
        self._engine = engine
        self._listings = dict(listings)

    @property
    def engine(self) -> Engine:
        """The database of the listings. Raises PagesFileError where the file names none."""
        if self._engine is None:
            raise PagesFileError(
                f"{self.path} names facts, no database: its pages can be planned, but not run",
                'Add url = "…" under [source]',
                "pages-source",
            )
        return self._engine

    @property
    def dialect(self) -> str:
        """The name of the engine that the listings are for."""
        return self.facts.server.engine if self.facts is not None else self.engine.dialect.name

    def close(self) -> None:
        """Give the database's connections back."""
        if self._engine is not None:
            self._engine.dispose()

    def __getitem__(self, name: str) -> Listing:
        if name not in self._listings:
            raise PagesFileError(
                f"{self.path} has no listing {name!r}", nearest(name, self._listings), "pages-name"
            )
        return self._listings[name]

    def __contains__(self, name: object) -> bool:
        return name in self._listings

    def __iter__(self) -> Iterator[str]:
        return iter(self._listings)

    def __len__(self) -> int:
        return len(self._listings)


def load(path: str | Path, engine: Engine | None = None) -> Pages:
    """Read a pages file and return its listings, ready to be served.

    Tables are reflected from the database the file names, or from `engine`. An SQLite path in the
    file is taken from the file's own folder. Raises PagesFileError, naming file and key, and
    DatabaseError.
    """
    file = Path(path)
    model = _read(file)
    facts = None
    if model.source.facts is not None and engine is None:
        facts = read_facts(file.parent / model.source.facts)
        opened: Engine | None = None
        find = partial(table_of_facts, file, facts)
        ask = partial(_refuse_sql, file)
    else:
        opened = engine if engine is not None else open_database(_address(file, model))
        find = partial(reflect_table, file, opened)
        ask = partial(table_of_sql, file, opened)
    try:
        listings = _listings(file, model, find, ask)
    except VrelkoError:
        if engine is None and opened is not None:
            opened.dispose()
        raise
    anchors = {
        name: file.parent / one.steady.anchors
        for name, one in model.listing.items()
        if one.steady is not None and one.steady.anchors is not None
    }
    web = {
        name: {**one.web.model_dump(), "fields": {k: v or None for k, v in one.web.fields.items()}}
        for name, one in model.listing.items()
        if one.web is not None
    }
    return Pages(file, opened, listings, facts, anchors, web)


def _refuse_sql(file: Path, listing: str, _: str) -> Subquery:
    raise PagesFileError(
        f"{file}: listing.{listing}.sql cannot be read without a database",
        'Name one with url = "…" under [source], or describe the listing by its table',
        "pages-sql",
    )


def _listings(
    file: Path,
    model: PagesModel,
    find: Callable[[str, str], Table],
    ask: Callable[[str, str], Subquery],
) -> dict[str, Listing]:
    secrets = _secrets(file, model)
    found = {}
    for name, described in model.listing.items():
        try:
            found[name] = _listing(file, name, described, find, ask, secrets)
        except PagesFileError:
            raise
        except VrelkoError as error:
            where = f"{file}, listing.{name}"
            raise PagesFileError(f"{where}: {error.what}", error.todo, error.code) from error
    return found


def _read(file: Path) -> PagesModel:
    try:
        data = tomllib.loads(file.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise PagesFileError(
            f"there is no pages file {str(file)!r}",
            "Check the path; `vrelko demo` writes one to start from",
            "pages-missing",
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise PagesFileError(
            f"the pages file {str(file)!r} cannot be read: {error}",
            "Name a readable TOML file in UTF-8",
            "pages-unreadable",
        ) from error
    except tomllib.TOMLDecodeError as error:
        raise PagesFileError(
            f"{file} is no TOML: {error}", "Correct it at that place", "pages-toml"
        ) from error
    try:
        return PagesModel.model_validate(data)
    except ValidationError as error:
        raise _explain(file, error) from None


def _explain(file: Path, error: ValidationError) -> PagesFileError:
    """Return the first fault of a pages file as file, key, what was expected and what to write."""
    first = error.errors()[0]
    path = [str(part) for part in first["loc"]]
    if path[:1] == ["listing"] and len(path) > 3 and path[2] in ("where", "filters"):
        path = path[:4]
    key = ".".join(path)
    if first["type"] == "extra_forbidden":
        known = PagesModel.keys_beside(path)
        return PagesFileError(
            f"{file}: the key {key!r} is not known", nearest(path[-1], known), "pages-key"
        )
    if first["type"] == "missing":
        return PagesFileError(
            f"{file}: the key {key!r} is missing", "Add it; see docs/pages-file.md", "pages-key"
        )
    expected = first["msg"].removeprefix("Value error, ")
    if len(path) > 3 and path[2] in ("where", "filters"):
        expected = CONDITION
    return PagesFileError(
        f"{file}: the key {key!r} does not hold what it should",
        f"Expected: {expected[0].lower()}{expected[1:]}",
        "pages-value",
    )


def _address(file: Path, model: PagesModel) -> str:
    source = model.source
    address = source.url
    if source.url_env is not None:
        address = os.environ.get(source.url_env)
        if not address:
            raise PagesFileError(
                f"{file}: source.url_env names the environment variable {source.url_env!r}, which "
                "is not set",
                f"Set it, such as {source.url_env}=sqlite:///larkmere.db",
                "pages-source",
            )
    if not address:
        raise PagesFileError(
            f"{file}: [source] does not say where the database is",
            'Add url = "sqlite:///file.db", url_env = "NAME" for a variable that holds it, or '
            'facts = "facts.json" to plan without a database',
            "pages-source",
        )
    return _beside(file, address)


def _secrets(file: Path, model: PagesModel) -> list[str]:
    """Return the secrets that sign cursors, newest first. Raises PagesFileError."""
    named = model.source.secrets_env
    if named is None:
        return []
    found = [one.strip() for one in os.environ.get(named, "").split(",") if one.strip()]
    if not found:
        raise PagesFileError(
            f"{file}: source.secrets_env names the environment variable {named!r}, which is not "
            "set",
            "Set it to a secret of 16 bytes or more, or to several with commas, the newest first",
            "pages-source",
        )
    return found


def _beside(file: Path, address: str) -> str:
    """Return the address with a relative SQLite path taken from the pages file's folder."""
    try:
        url = make_url(address)
    except ArgumentError:
        return address
    path = url.database
    if url.get_backend_name() != "sqlite" or not path or path == ":memory:":
        return address
    if path.startswith("file:") or Path(path).is_absolute():
        return address
    return url.set(database=str(file.parent / path)).render_as_string(hide_password=False)


def _listing(
    file: Path,
    name: str,
    model: ListingModel,
    find: Callable[[str, str], Table],
    ask: Callable[[str, str], Subquery],
    secrets: list[str],
) -> Listing:
    workload = _workload(model)
    if model.python is not None:
        return _from_python(file, name, model, workload)
    table = find(name, model.table) if model.table is not None else ask(name, str(model.sql))

    def column(key: str, wanted: str) -> Any:
        if wanted not in table.c:
            what = f"table {table.name!r}" if model.sql is None else "the query"
            raise PagesFileError(
                f"{file}: listing.{name}.{key} names a column {wanted!r} that {what} does not have",
                nearest(wanted, table.c.keys()),
                "pages-column",
            )
        return table.c[wanted]

    chosen = [column("columns", wanted) for wanted in model.columns] or list(table.c)
    conditions = [
        part
        for wanted, value in model.where.items()
        for part in _conditions(column("where", wanted), value)
    ]
    filters = {
        _filter_name(wanted, value): and_(*_conditions(column("filters", wanted), value))
        for wanted, value in model.filters.items()
    }
    sizes = Sizes(model.sizes.default, model.sizes.top) if model.sizes else None
    return Listing(
        select(*chosen).where(*conditions),
        name=name,
        kind=model.kind,
        orders=model.orders,
        filters=filters,
        search=_search(model, column),
        sizes=sizes,
        total=model.total,
        cap=model.cap,
        unique=model.unique,
        expose=model.expose,
        deepest=model.deepest,
        strategy=model.strategy,
        workload=workload,
        steady=steady_of(file, name, model),
        secrets=secrets,
    )


def _search(model: ListingModel, column: Callable[[str, str], Column[Any]]) -> Search | None:
    if model.search is None:
        return None
    columns = [column("search", name) for name in model.search.columns]
    return Search(columns, model.search.how, tuple(model.search.orders))


def _conditions(column: Column[Any], value: Any) -> list[Any]:
    """Return the conditions that a value of `where` or `filters` spells."""
    if not isinstance(value, Range):
        return [column == _value(column, value)]
    found: list[Any] = []
    if value.null is not None:
        found.append(column.is_(None) if value.null else column.is_not(None))
    if value.in_ is not None:
        found.append(column.in_([_value(column, one) for one in value.in_]))
    found += [
        getattr(column, method)(_value(column, getattr(value, word)))
        for word, method in _COMPARISONS.items()
        if getattr(value, word) is not None
    ]
    return found


def _value(column: Column[Any], value: Any) -> Any:
    """Return a value to compare with: text such as ":station" stands for a parameter."""
    if isinstance(value, str) and value.startswith(":"):
        return bindparam(value[1:], type_=column.type)
    return value


def _filter_name(column: str, value: Any) -> str:
    return value[1:] if isinstance(value, str) and value.startswith(":") else column


def _workload(model: ListingModel) -> Workload:
    readers, writers = model.readers, model.writers
    return Workload(
        Readers(
            readers.a_minute,
            readers.users,
            readers.dwell_s,
            Depth(
                readers.depth.mean,
                readers.depth.jumps,
                readers.depth.kind,
                tuple(readers.depth.shares),
            ),
            readers.round_trip_ms,
        ),
        Writers(
            writers.inserts_a_minute,
            writers.deletes_a_minute,
            Landing(writers.lands.kind, writers.lands.mean_s),
            writers.moves_a_minute,
            tuple(writers.moving),
        ),
        Needs(**model.needs.model_dump()),
        {name: values[0] for name, values in model.params.items()},
        tuple(Use(use.order, use.params, use.share) for use in model.uses),
    )


_WORKLOAD_KEYS = {"params", "readers", "writers", "needs", "uses"}


def _from_python(file: Path, name: str, model: ListingModel, workload: Workload) -> Listing:
    """Return the listing of a module, with the workload that the file describes, if it does."""
    path = str(model.python)
    module, _, attribute = path.partition(":")
    try:
        found = getattr(import_module(module), attribute)
    except (ImportError, AttributeError, ValueError) as error:
        raise PagesFileError(
            f"{file}: listing.{name}.python names {path!r}, which cannot be imported: {error}",
            'Write it as "package.module:listing"',
            "pages-python",
        ) from error
    if not isinstance(found, Listing):
        raise PagesFileError(
            f"{file}: listing.{name}.python names a {type(found).__name__}, not a Listing",
            'Write it as "package.module:listing"',
            "pages-python",
        )
    if not model.model_fields_set & _WORKLOAD_KEYS:
        return found
    return found.with_workload(workload)
