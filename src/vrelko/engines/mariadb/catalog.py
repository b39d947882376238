"""Reading MariaDB's catalog: tables, columns, indexes with their stored statistics, settings.

Only information_schema and, where they may be read, InnoDB's stored statistics; no table is
scanned. InnoDB's row counts come from a few sampled pages and may be off by several per cent.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Connection, RowMapping, text
from sqlalchemy.exc import DBAPIError

from vrelko.core.facts import ColumnFacts, TableFacts, usual_width
from vrelko.core.index import IndexColumn, IndexFacts

SETTINGS = (
    "innodb_buffer_pool_size", "innodb_page_size", "sort_buffer_size", "max_heap_table_size",
    "tmp_table_size", "join_buffer_size", "optimizer_switch", "innodb_stats_persistent",
    "tx_isolation", "read_only", "max_statement_time",
)  # fmt: skip
PAGE = 16384

_TABLES = text(
    "SELECT table_name FROM information_schema.tables WHERE table_schema = database() "
    "AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED') ORDER BY table_name"
)
_TABLE = text(
    "SELECT table_type, engine, table_rows, avg_row_length, data_length, create_options "
    "FROM information_schema.tables WHERE table_schema = coalesce(:space, database()) "
    "AND table_name = :name"
)
_COLUMNS = text(
    "SELECT column_name, data_type, column_type, is_nullable, column_key "
    "FROM information_schema.columns WHERE table_schema = coalesce(:space, database()) "
    "AND table_name = :name "
    "ORDER BY ordinal_position"
)
_INDEXES = text(
    "SELECT index_name, column_name, collation, non_unique, cardinality "
    "FROM information_schema.statistics WHERE table_schema = coalesce(:space, database()) "
    "AND table_name = :name "
    "AND index_type = 'BTREE' ORDER BY index_name, seq_in_index"
)
_STORED = text(
    "SELECT index_name, stat_name, sum(stat_value) FROM mysql.innodb_index_stats "
    "WHERE database_name = coalesce(:space, database()) "
    "AND (table_name = :name OR table_name LIKE :parts) "
    "GROUP BY index_name, stat_name"
)
_PARTITIONS = text(
    "SELECT count(*) FROM information_schema.partitions "
    "WHERE table_schema = coalesce(:space, database()) "
    "AND table_name = :name AND partition_name IS NOT NULL"
)


def read_server(connection: Connection) -> dict[str, Any]:
    """Return version, page size, cache size and settings that matter for page statements."""
    rows = connection.execute(text("SHOW VARIABLES")).all()
    values = {str(name): str(value) for name, value in rows}
    settings = {name: values[name] for name in SETTINGS if name in values}
    settings |= _replication(connection, values.get("read_only") == "ON")
    return {
        "version": values["version"],
        "block_bytes": int(values.get("innodb_page_size", PAGE)),
        "cache_bytes": int(values.get("innodb_buffer_pool_size", 0)),
        "settings": settings,
    }


def _replication(connection: Connection, read_only: bool) -> dict[str, str]:
    """Return whether the server follows another, and how many seconds behind it is.

    Without the right to ask, a server that is read-only is taken for a replica.
    """
    try:
        found = connection.execute(text("SHOW ALL SLAVES STATUS")).mappings().all()
    except DBAPIError:
        return {"replica": "yes" if read_only else "no"}
    if not found:
        return {"replica": "no"}
    # NULL where the replica does not run, so that nobody knows.
    lags = [row["Seconds_Behind_Master"] for row in found]
    known = "unknown" if None in lags else f"{max(map(float, lags)):.1f}"
    return {"replica": "yes", "replica_lag_s": known}


def list_tables(connection: Connection) -> list[str]:
    """Return the names of the tables of the connection's database."""
    return [str(name) for (name,) in connection.execute(_TABLES)]


def place_of(connection: Connection, name: str) -> dict[str, str | None] | None:
    """Return the database and the name of a table; the database None where it is the current one.

    `name` may be that of a table of another database, after its name and a dot. None where there
    is no such table.
    """
    space, _, rest = name.partition(".")
    places: list[dict[str, str | None]] = [
        {"space": None, "name": name},
        {"space": space, "name": rest},
    ]
    for place in places:
        if connection.execute(_TABLE, place).first() is not None:
            return place
    return None


def quoted_name(connection: Connection, name: str) -> str:
    """Return a table's name for a statement."""
    quote = connection.dialect.identifier_preparer.quote_identifier
    place = place_of(connection, name) or {"space": None, "name": name}
    parts = [part for part in (place["space"], place["name"]) if part is not None]
    return ".".join(quote(part) for part in parts).replace(":", "\\:")


def read_table(connection: Connection, name: str, notes: list[str]) -> TableFacts | None:
    """Return what the catalog tells of a table, None where there is none."""
    place = place_of(connection, name)
    if place is None:
        return None
    found = connection.execute(_TABLE, place).mappings().one()
    if found["table_type"] == "VIEW" or found["engine"] is None:
        return _read_view(connection, name, place, notes)
    if found["engine"] != "InnoDB":
        notes.append(f"{name}: its engine is {found['engine']}; costs are those of InnoDB")
    # An estimate from sampled pages, which may be off by several per cent.
    rows = float(found["table_rows"] or 0)
    # InnoDB's own statistics tell leaves apart from free space; the catalog's lengths do not.
    stored = _read_stored(connection, name, place, notes)
    pages = max(
        stored.get(("PRIMARY", "n_leaf_pages"), 0.0), float(found["data_length"]) / PAGE * 0.7
    )
    columns = _read_columns(connection, place)
    indexes, keys = _read_indexes(connection, place, rows, columns, stored)
    # avg_row_length counts free space of the extents too; leaf pages are what is read.
    row_bytes = pages * PAGE * 0.93 / rows if rows else float(found["avg_row_length"] or 0)
    parts = int(connection.execute(_PARTITIONS, place).scalar() or 0)
    return TableFacts(
        name=name,
        rows=rows,
        rows_from="catalog (sampled pages)",
        row_bytes=round(row_bytes, 1),
        blocks=max(pages, 1.0),
        columns=columns,
        indexes=indexes,
        primary_key=keys,
        clustered=True,
        levels=_levels(pages),
        partitions=parts,
        schema=place["space"],
    )


def _read_columns(
    connection: Connection, place: Mapping[str, str | None]
) -> tuple[ColumnFacts, ...]:
    return tuple(
        ColumnFacts(
            str(one["column_name"]),
            str(one["column_type"]),
            one["is_nullable"] == "YES",
            usual_width(str(one["column_type"])),
        )
        for one in connection.execute(_COLUMNS, place).mappings()
    )


def _read_view(
    connection: Connection, name: str, place: Mapping[str, str | None], notes: list[str]
) -> TableFacts:
    """Return what is known of a view: its columns, and the rows that the optimizer expects."""
    notes.append(f"{name}: what lies behind it is not known here; its pages are counted alone")
    columns = _read_columns(connection, place)
    asked = text(f"EXPLAIN SELECT * FROM {quoted_name(connection, name)}")
    rows = 1.0
    for step in connection.execute(asked).mappings():
        # One line a table of its join: what each row of the one before finds there.
        rows *= max(float(step["rows"] or 1), 1.0)
    bytes_ = 18.0 + sum(column.width or 8.0 for column in columns)
    return TableFacts(
        name=name,
        rows=rows,
        rows_from="estimate of the server",
        row_bytes=bytes_,
        blocks=max(rows * bytes_ / PAGE, 1.0),
        columns=columns,
        indexes=(),
        primary_key=(),
        schema=place["space"],
        is_view=True,
    )


def _read_stored(
    connection: Connection, name: str, place: Mapping[str, str | None], notes: list[str]
) -> dict[tuple[str, str], float]:
    try:
        rows = connection.execute(_STORED, {**place, "parts": f"{place['name']}#p#%"}).all()
    except DBAPIError:
        connection.rollback()
        notes.append(f"{name}: mysql.innodb_index_stats may not be read; sizes are estimated")
        return {}
    return {(str(index), str(what)): float(value) for index, what, value in rows}


def _read_indexes(
    connection: Connection,
    place: Mapping[str, str | None],
    rows: float,
    columns: Sequence[ColumnFacts],
    stored: Mapping[tuple[str, str], float],
) -> tuple[tuple[IndexFacts, ...], tuple[str, ...]]:
    widths = {column.name: column.width or 8.0 for column in columns}
    grouped: dict[str, list[RowMapping]] = {}
    for one in connection.execute(_INDEXES, place).mappings():
        grouped.setdefault(str(one["index_name"]), []).append(one)
    keys = tuple(str(one["column_name"]) for one in grouped.get("PRIMARY", ()))
    indexes = []
    for index, parts in grouped.items():
        names = [str(one["column_name"]) for one in parts]
        # Its leaves are the rows, so an entry's size is the row's.
        if index == "PRIMARY":
            leaves = stored.get((index, "n_leaf_pages"))
            entry = None
        else:
            # A secondary index of InnoDB holds the primary key in each entry.
            held = {*names, *keys}
            entry = sum(widths.get(column, 8.0) for column in held) + 6.0
            guessed = rows * entry / (PAGE * 0.8)
            leaves = stored.get((index, "n_leaf_pages"), guessed)
            if not guessed / 5 < leaves < guessed * 8:  # InnoDB was seen to store 1
                leaves = guessed
            entry = leaves * PAGE * 0.93 / rows if rows else entry
        indexes.append(
            IndexFacts(
                name=index,
                columns=tuple(
                    IndexColumn(column, one["collation"] == "D")
                    for column, one in zip(names, parts, strict=True)
                ),
                unique=not parts[0]["non_unique"],
                partial=False,
                entry_bytes=None if entry is None else round(entry, 1),
                leaf_blocks=None if leaves is None else max(round(leaves, 1), 1.0),
                levels=None if leaves is None else _levels(leaves),
                included=()
                if index == "PRIMARY"
                else tuple(key for key in keys if key not in names),
            )
        )
    return tuple(indexes), keys


def distinct_of(connection: Connection, name: str) -> dict[str, float]:
    """Return the stored number of distinct values of columns that lead an index.

    InnoDB's own, where they may be read: what information_schema shows is doubled, to favour
    indexes.
    """
    found: dict[str, float] = {}
    seen: set[str] = set()
    place = place_of(connection, name) or {"space": None, "name": name}
    # Whether they may be read was noted when the table itself was.
    stored = _read_stored(connection, name, place, [])
    for one in connection.execute(_INDEXES, place).mappings():
        index = str(one["index_name"])
        known = stored.get((index, "n_diff_pfx01")) or one["cardinality"]
        if index not in seen and known:
            found[str(one["column_name"])] = float(known)
        seen.add(index)
    return found


def _levels(leaves: float) -> int:
    """Return the levels of an InnoDB tree; its inner pages hold about 1,100 short keys."""
    return 1 + math.ceil(math.log(leaves, 1100)) if leaves > 1 else 1
