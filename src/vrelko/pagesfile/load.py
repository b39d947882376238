"""Pages files: listings described in TOML, with where their data is and how it is used."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import Any

from sqlalchemy import Column, Engine, Subquery, Table, and_, bindparam, select

from vrelko.core.facts import Facts
from vrelko.core.periods import Periods
from vrelko.core.workload import Depth, Landing, Needs, Readers, Use, Workload, Writers
from vrelko.engines.registry import open_database
from vrelko.errors import ListingError, PagesFileError, VrelkoError, nearest
from vrelko.pagesfile.schema import ConditionModel, ListingModel, PagesModel
from vrelko.pagesfile.source import address_of, read_model, secrets_of
from vrelko.pagesfile.steady import steady_of
from vrelko.pagesfile.tables import (
    read_facts,
    reflect_table,
    table_of_facts,
    table_of_sql,
)
from vrelko.serving.listing import Listing
from vrelko.sql.from_text import value_from_text
from vrelko.sql.search import Search

_COMPARISONS = {"ge": "__ge__", "gt": "__gt__", "le": "__le__", "lt": "__lt__"}


class Pages(Mapping[str, Listing]):
    """The listings of a pages file by name, and an Engine on their database, for reading only.

    `facts` are those that the file names instead of a database; None where it names one.
    `web` are the settings of those that say how they speak HTTP, as `vrelko.web.HttpOptions` takes
    them; `operation` how they are served, as `vrelko.web.make_app` does.
    """

    def __init__(
        self,
        path: Path,
        engine: Engine | None,
        listings: Mapping[str, Listing],
        *,
        facts: Facts | None = None,
        web: Mapping[str, Mapping[str, Any]] | None = None,
        operation: Mapping[str, Any] | None = None,
    ) -> None:
        self.web = dict(web or {})
        self.operation = dict(operation or {})
        self.path = path
        self.facts = facts
        self._engine = engine
        self._listings = dict(listings)

    @property
    def engine(self) -> Engine:
        """The database of the listings. Raises PagesFileError where the file names none."""
        # Facts alone plan a database that this machine may never reach.
        if self._engine is None:
            raise PagesFileError(
                f"{self.path} names facts and no database: its pages can be planned, but not run",
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


def load(path: str | Path, engine: Engine | None = None, *, pool: int | None = None) -> Pages:
    """Read a pages file and return its listings, ready to be served.

    Tables are reflected from the database the file names, or from `engine`. An SQLite path in the
    file is taken from the file's own folder. `pool`: connections held at most, instead of what the
    file says. Raises PagesFileError, naming file and key, and
    DatabaseError.
    """
    file = Path(path)
    return load_model(file, read_model(file), engine, pool=pool)


def load_model(
    file: Path, model: PagesModel, engine: Engine | None = None, *, pool: int | None = None
) -> Pages:
    """Return the listings of a model; `file` is where it stands, for paths and messages."""
    facts = None
    if model.source.facts is not None and engine is None:
        facts = read_facts(file.parent / model.source.facts)
        opened: Engine | None = None
        find = partial(table_of_facts, file, facts)
        ask = partial(_refuse_sql, file)
    else:
        opened = engine if engine is not None else _open(file, model, pool)
        find = partial(reflect_table, file, opened)
        ask = partial(table_of_sql, file, opened)
    try:
        listings = _listings(file, model, find, ask)
    except VrelkoError:
        if engine is None and opened is not None:
            # Nobody else holds the engine that was opened here, so nobody else would close it.
            opened.dispose()
        raise
    source = model.source
    # A listing that is asked for by a crowd must leave connections for the others.
    held = pool or source.pool  # one listing takes half of them at most
    at_once = source.at_once or (max(held // 2, 1) if held else None)
    operation = {
        "time_limit_ms": source.statement_ms,
        "at_once": at_once,
        "wait_s": source.pool_wait_s,
    }
    web = {
        name: {**one.web.said(), "fields": {k: v or None for k, v in one.web.fields.items()}}
        for name, one in model.listing.items()
        if one.web is not None
    }
    operation = {key: value for key, value in operation.items() if value is not None}
    return Pages(file, opened, listings, facts=facts, web=web, operation=operation)


def _open(file: Path, model: PagesModel, pool: int | None) -> Engine:
    address, source = address_of(file, model), model.source
    return open_database(address, pool=pool or source.pool, pool_wait_s=source.pool_wait_s)


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
    secrets = secrets_of(file, model)
    found = {}
    for name, described in model.listing.items():
        try:
            made = _listing(file, name, described, find, ask, secrets)
            found[name] = _with_values(file, name, made)
        except PagesFileError:
            raise
        except VrelkoError as error:
            where = f"{file}, listing.{name}"
            # The library's own errors know the listing, not the file that it was written in.
            raise PagesFileError(f"{where}: {error.what}", error.todo, error.code) from error
    return found


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
    sizes = model.sizes.sizes() if model.sizes else None
    return Listing(
        select(*chosen).where(*conditions),
        name=name,
        kind=model.kind,
        orders=model.orders,
        filters=filters,
        search=_search(model, column),
        sizes=sizes,
        total=model.total,
        # Only what the file says: what it leaves out keeps the defaults of Listing itself.
        **model.said_of("count", "cap", "jumps"),
        anchor_file=None if model.anchor_file is None else file.parent / model.anchor_file,
        unique=model.unique,
        expose=model.expose,
        max_offset=model.max_offset,
        periods=None if model.periods is None else Periods(model.periods, model.stored_zone),
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
    if not isinstance(value, ConditionModel):
        # A bare value is an equality, the condition that most files have.
        return [column == _value(column, value)]
    found: list[Any] = []
    # Several conditions of one range are joined by AND.
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
    # As SQL writes parameters; the column's type lets texts from addresses be converted.
    if isinstance(value, str) and value.startswith(":"):
        return bindparam(value[1:], type_=column.type)
    try:
        return _fitting(value, column.type)
    except ValueError as error:
        raise ListingError(
            f"the value {value!r} compared with {column.name!r} {error}",
            "Write it as the column's type has it",
            "pages-value",
        ) from error


def _fitting(value: Any, kind: Any) -> Any:
    """Return text as a value of the column type, for types that are not text. Raises ValueError."""
    if isinstance(value, (list, tuple)):
        return [_fitting(one, kind) for one in value]
    return value_from_text(value, kind) if isinstance(value, str) else value


def _with_values(file: Path, name: str, listing: Listing) -> Listing:
    """Return the listing, typical values read as the types they are compared with."""
    types = listing.filters.types

    def read(params: Mapping[str, Any], where: str) -> dict[str, Any]:
        found = dict(params)
        for key, value in params.items():
            try:
                found[key] = _fitting(value, types[key][0]) if key in types else value
            except ValueError as error:
                raise PagesFileError(
                    f"{file}: listing.{name}.{where}.{key}: the value {value!r} {error}",
                    "Write it as the column's type has it",
                    "pages-value",
                ) from error
        return found

    # TOML has no type for a UUID or a decimal: texts become what they are compared with.
    usual = listing.workload
    uses = tuple(replace(use, params=read(use.params, "uses.params")) for use in usual.uses)
    return listing.with_workload(replace(usual, params=read(usual.params, "params"), uses=uses))


def _filter_name(column: str, value: Any) -> str:
    return value[1:] if isinstance(value, str) and value.startswith(":") else column


def _workload(model: ListingModel) -> Workload:
    readers, writers = model.readers, model.writers
    depth = Depth(**readers.depth.said("shares"), shares=tuple(readers.depth.shares))
    lands = Landing(**writers.lands.said())
    return Workload(
        Readers(**readers.said("depth"), depth=depth),
        Writers(**writers.said("lands", "moving"), lands=lands, moving=tuple(writers.moving)),
        Needs(**model.needs.said()),
        {name: values[0] for name, values in model.params.items()},
        tuple(Use(**use.said()) for use in model.uses),
    )


_WORKLOAD_KEYS = {"params", "readers", "writers", "needs", "uses"}


def _from_python(file: Path, name: str, model: ListingModel, workload: Workload) -> Listing:
    """Return the listing of a module, with the workload that the file describes, if it does."""
    path = str(model.python)
    module, _, attribute = path.partition(":")
    try:
        found = getattr(import_module(module), attribute)
    except (Exception, SystemExit) as error:  # whatever the module does when it is imported
        what = str(error) if isinstance(error, ImportError | AttributeError) else repr(error)
        if not module or module.startswith(".") or not attribute:
            what = "it is not of the form package.module:name"
        raise PagesFileError(
            f"{file}: listing.{name}.python names {path!r}, which cannot be imported: {what}",
            'Write it as "package.module:listing"',
            "pages-python",
        ) from error
    if not isinstance(found, Listing):
        raise PagesFileError(
            f"{file}: listing.{name}.python names a {type(found).__name__}, not a Listing",
            'Write it as "package.module:listing"',
            "pages-python",
        )
    # The module's own workload stands unless the file says anything of it.
    if not model.model_fields_set & _WORKLOAD_KEYS:
        return found
    return found.with_workload(workload)
