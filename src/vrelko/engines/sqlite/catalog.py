"""Reading SQLite's catalog: tables, indexes, statistics, and samples of b-tree pages.

Nothing here scans a table: catalog pragmas, sqlite_stat1 where ANALYZE once ran, and the first
pages of a b-tree from dbstat where it is compiled in.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Table, text
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import DBAPIError

from vrelko.core.index import IndexColumn

_DBSTAT_PAGES = 200
MAIN = "main"
"""The name of the file that a connection was opened on; attached ones have names of their own, and
may hold tables of the same names."""


def quoted_name(connection: Connection, name: str) -> str:
    """Return a table's name for a statement."""
    quoted = connection.dialect.identifier_preparer.quote_identifier(name)
    return quoted.replace(":", "\\:")  # text() takes a bare colon for a parameter


def _within(space: str, table: str) -> str:
    """Return the name of a table of the catalog, of one file, for a statement of text()."""
    # Quoted by hand: a Session is asked too, which has no dialect.
    quoted = '"' + space.replace('"', '""') + '"'
    return f"{quoted}.{table}".replace(":", "\\:")


@dataclass(frozen=True, slots=True)
class CatalogColumn:
    """A column as declared."""

    name: str
    type: str
    nullable: bool
    key_place: int


@dataclass(frozen=True, slots=True)
class CatalogIndex:
    """An index as declared; `origin` is c (CREATE INDEX), u (UNIQUE) or pk."""

    name: str
    columns: tuple[IndexColumn, ...]
    unique: bool
    partial: bool
    origin: str


@dataclass(frozen=True, slots=True)
class TreeSample:
    """What the first pages of a b-tree tell: levels, leaves (estimated), cells and bytes a leaf."""

    levels: int
    leaves: float
    cells_per_leaf: float
    cell_bytes: float

    @property
    def cells(self) -> float:
        """Entries of the whole tree."""
        return self.leaves * self.cells_per_leaf


def read_server(connection: Connection) -> dict[str, Any]:
    """Return version, block size, cache size and settings that matter."""

    # A pragma's name cannot be a parameter; these are our own.
    def pragma(name: str) -> Any:
        return connection.execute(text(f"PRAGMA {name}")).scalar()

    block = int(pragma("page_size"))
    # Below 0 it is kibibytes, above it pages.
    cache = int(pragma("cache_size"))
    return {
        "version": str(connection.execute(text("SELECT sqlite_version()")).scalar()),
        "block_bytes": block,
        "cache_bytes": -cache * 1024 if cache < 0 else cache * block,
        "settings": {
            "journal_mode": str(pragma("journal_mode")),
            "file_blocks": str(pragma("page_count")),
            "free_blocks": str(pragma("freelist_count")),
        },
    }


def list_tables(connection: Connection) -> list[str]:
    """Return the names of the user's tables."""
    rows = connection.execute(
        text(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' "
            "ESCAPE '\\' ORDER BY name"
        )
    )
    return [str(name) for (name,) in rows]


def is_view(connection: Connection, name: str) -> bool:
    """Tell whether a name is that of a view."""
    found = text("SELECT 1 FROM sqlite_master WHERE type = 'view' AND name = :name")
    return connection.execute(found, {"name": name}).scalar() is not None


def read_columns(connection: Connection, table: str) -> list[CatalogColumn]:
    """Return a table's columns, hidden ones left out."""
    rows = connection.execute(
        text('SELECT name, type, "notnull", pk FROM pragma_table_info(:table)'), {"table": table}
    )
    # A key column counts as filled here; where NULLs in keys matter the serving side asks for
    # itself.
    return [
        CatalogColumn(str(name), str(kind or "").upper(), not notnull and not pk, int(pk))
        for name, kind, notnull, pk in rows
    ]


def is_without_rowid(connection: Connection, table: str, space: str = MAIN) -> bool:
    """Tell whether a table is WITHOUT ROWID: its primary key index holds every column."""
    rows = connection.execute(
        text(
            "SELECT count(*) FROM pragma_index_list(:table, :space) AS i, "
            "pragma_index_info(i.name, :space) AS c WHERE i.origin = 'pk'"
        ),
        {"table": table, "space": space},
    )
    # Without an index of its own the key is the row id.
    if not rows.scalar():
        return False
    # No pragma tells; the index of the key alone may be that of a table with row ids.
    return "WITHOUT ROWID" in (create_text(connection, table, space) or "").upper()


def create_text(connection: Connection, table: str, space: str = MAIN) -> str | None:
    """Return a table's CREATE statement."""
    master = _within(space, "sqlite_master")
    found = connection.execute(
        text(f"SELECT sql FROM {master} WHERE type = 'table' AND name = :table"),
        {"table": table},
    )
    value = found.scalar()
    return None if value is None else str(value)


def read_indexes(connection: Connection, table: str, space: str = MAIN) -> list[CatalogIndex]:
    """Return a table's indexes with the columns a user gave them, in name order."""
    listed = connection.execute(
        # By name: what is advised does not depend on which index was made first.
        text(
            'SELECT name, "unique", origin, partial FROM pragma_index_list(:table, :space) '
            "ORDER BY name"
        ),
        {"table": table, "space": space},
    ).all()
    indexes = []
    for name, unique, origin, partial in listed:
        columns = connection.execute(
            text(
                'SELECT name, "desc" FROM pragma_index_xinfo(:index, :space) WHERE key = 1 '
                "ORDER BY seqno"
            ),
            {"index": name, "space": space},
        ).all()
        indexes.append(
            CatalogIndex(
                str(name),
                tuple(IndexColumn(None if c is None else str(c), bool(d)) for c, d in columns),
                bool(unique),
                bool(partial),
                str(origin),
            )
        )
    return indexes


def read_statistics(
    connection: Connection, table: str, space: str = MAIN
) -> dict[str | None, list[int]]:
    """Return what ANALYZE once stored for a table: numbers by index name, empty if never run."""
    master, stored = (_within(space, name) for name in ("sqlite_master", "sqlite_stat1"))
    there = text(f"SELECT 1 FROM {master} WHERE name = 'sqlite_stat1'")
    if not connection.execute(there).scalar():
        return {}
    rows = connection.execute(
        text(f"SELECT idx, stat FROM {stored} WHERE tbl = :table"), {"table": table}
    )
    found: dict[str | None, list[int]] = {}
    for index, stat in rows:
        # Words such as "unordered" may stand behind the numbers.
        numbers = [int(part) for part in str(stat).split() if part.isdigit()]
        if numbers:
            found[index] = numbers
    return found


def read_spread(
    connection: Any, table: Table, column: str, dialect: Dialect
) -> tuple[float, float]:
    """Return the rows of a table and the distinct values of a column, as ANALYZE had them.

    0 where it never ran, or where no index begins with the column.
    """
    space = table.schema or MAIN
    stored = read_statistics(connection, table.name, space)
    for index in read_indexes(connection, table.name, space) if stored else ():
        numbers = stored.get(index.name, [])
        if index.columns[0].name == column and len(numbers) > 1:
            return float(numbers[0]), numbers[0] / max(numbers[1], 1)
    return 0.0, 0.0


def sample_tree(connection: Connection, name: str) -> TreeSample | None:
    """Return what the first pages of a table's or index's b-tree tell, None without dbstat.

    Pages come in tree order: the root, then the leftmost branch. A tree's leaves are the product
    of the children a page has at each level, exact for two levels, close for trees filled evenly.
    """
    try:
        pages = connection.execute(
            text(
                "SELECT path, pagetype, ncell, payload FROM dbstat WHERE name = :name "
                f"LIMIT {_DBSTAT_PAGES}"
            ),
            {"name": name},
        ).all()
    # Not every build of SQLite has dbstat.
    except DBAPIError:
        return None
    leaves = [(cells, payload) for _, kind, cells, payload in pages if kind == "leaf"]
    if not leaves:
        return None
    fan_out: dict[int, list[int]] = {}
    # A path such as /001/002 has a slash for each level.
    for path, kind, cells, _ in pages:
        if kind == "internal":
            fan_out.setdefault(str(path).count("/"), []).append(cells + 1)
    count = 1.0
    for children in fan_out.values():
        # Levels multiply: each inner page has so many children on the mean.
        count *= sum(children) / len(children)
    cells = sum(cells for cells, _ in leaves)
    return TreeSample(
        levels=len(fan_out) + 1,
        leaves=count,
        cells_per_leaf=cells / len(leaves),
        cell_bytes=sum(payload for _, payload in leaves) / max(cells, 1),
    )
