"""Reading PostgreSQL's catalog: tables, columns with their statistics, indexes, settings.

Only catalogs, statistics views and file sizes are read; no table is scanned. Sources of the
numbers: pg_class (rows and blocks as of the last VACUUM or ANALYZE, scaled to the blocks there are
now, as the server's own optimizer does), pg_stats, pg_stat_all_tables, pg_index.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, RowMapping, text
from sqlalchemy.exc import DataError

from vrelko.core.facts import ColumnFacts, TableFacts, usual_width
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.engines.explain import plan_in

SETTINGS = (
    "shared_buffers", "effective_cache_size", "work_mem", "random_page_cost", "seq_page_cost",
    "cpu_tuple_cost", "cpu_index_tuple_cost", "cpu_operator_cost", "jit",
    "max_parallel_workers_per_gather", "plan_cache_mode", "default_transaction_isolation",
)  # fmt: skip

_TABLES = text(
    "SELECT CASE WHEN pg_table_is_visible(c.oid) THEN c.relname::text "
    "ELSE n.nspname || '.' || c.relname END "
    "FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
    "WHERE c.relkind IN ('r', 'p', 'm', 'f') AND NOT c.relispartition AND n.nspname !~ '^pg_' "
    "AND n.nspname <> 'information_schema' ORDER BY 1"
)
_FIND = text(
    "SELECT c.oid FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
    "WHERE c.relkind IN ('r', 'p', 'm', 'f', 'v') AND (c.relname = :name "
    "AND pg_table_is_visible(c.oid) OR n.nspname || '.' || c.relname = :name "
    "OR CAST(CAST(c.oid AS regclass) AS text) = :name) "
    "ORDER BY pg_table_is_visible(c.oid) DESC LIMIT 1"
)
_TABLE = text(
    "SELECT c.oid, CASE WHEN NOT pg_table_is_visible(c.oid) "
    "OR :name <> c.relname AND :name = n.nspname || '.' || c.relname THEN n.nspname END AS space, "
    "c.relname, c.relkind, c.relrowsecurity, c.reltuples, c.relpages, c.relallvisible, "
    "CASE WHEN c.relkind IN ('r', 'm') THEN pg_relation_size(c.oid) ELSE 0 END AS bytes, "
    "s.n_dead_tup, s.n_live_tup, s.n_mod_since_analyze, "
    "has_table_privilege(c.oid, 'SELECT') AS readable "
    "FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace "
    "LEFT JOIN pg_stat_all_tables s ON s.relid = c.oid WHERE c.oid = :oid"
)
_PARTS = text(
    "SELECT count(*) AS parts, sum(c.reltuples) AS rows, sum(pg_relation_size(c.oid)) AS bytes, "
    "sum(c.relpages) AS pages, sum(c.relallvisible) AS visible, "
    "bool_and(c.reltuples >= 0) AS known "
    "FROM pg_partition_tree(CAST(:oid AS oid)) t JOIN pg_class c ON c.oid = t.relid WHERE t.isleaf"
)
_DIVIDED = text(
    "SELECT c.relname, p.relname FROM pg_partition_tree(CAST(:oid AS oid)) t "
    "JOIN pg_class c ON c.oid = t.relid JOIN pg_class p ON p.oid = :oid "
    "WHERE t.level > 0 UNION ALL SELECT x.relname, r.relname FROM pg_index i "
    "JOIN pg_class r ON r.oid = i.indexrelid "
    "CROSS JOIN LATERAL pg_partition_tree(i.indexrelid) t JOIN pg_class x ON x.oid = t.relid "
    "WHERE i.indrelid = :oid AND r.relkind = 'I' AND t.level > 0"
)
_COLUMNS = text(
    "SELECT a.attname, format_type(a.atttypid, a.atttypmod) AS type, NOT a.attnotnull AS nullable, "
    "CASE WHEN o.collname = 'default' THEN (SELECT d.datcollate FROM pg_database d "
    "WHERE d.datname = current_database()) ELSE o.collname END AS collation, a.attlen, "
    "s.avg_width, s.null_frac, s.n_distinct, s.correlation, "
    "CAST(CAST(s.most_common_vals AS text) AS text[]) AS common, s.most_common_freqs AS shares, "
    "CAST(CAST(s.histogram_bounds AS text) AS text[]) AS bounds "
    "FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid "
    "JOIN pg_namespace n ON n.oid = c.relnamespace "
    "LEFT JOIN pg_collation o ON o.oid = a.attcollation "
    "LEFT JOIN pg_stats s ON s.schemaname = n.nspname AND s.tablename = c.relname "
    "AND s.attname = a.attname "
    "WHERE a.attrelid = :oid AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum"
)
_INDEXES = text(
    "SELECT x.relname, i.indisunique, i.indisprimary, "
    "pg_get_expr(i.indpred, i.indrelid) AS where_, "
    "x.reltuples, CASE WHEN x.relkind = 'i' THEN pg_relation_size(x.oid) ELSE "
    "(SELECT sum(pg_relation_size(relid)) "
    "FROM pg_partition_tree(x.oid) WHERE isleaf) END AS bytes, "
    "k.place, k.place > i.indnkeyatts AS included, a.attname, "
    "coalesce(i.indoption[k.place - 1], 0) AS option "
    "FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_am m ON m.oid = x.relam "
    "CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY AS k(number, place) "
    "LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number AND k.number > 0 "
    "WHERE i.indrelid = :oid AND i.indisvalid AND m.amname = 'btree' ORDER BY x.relname, k.place"
)
_MOST_BOUNDS = 101


def read_server(connection: Connection) -> dict[str, Any]:
    """Return version, block size, cache size and settings that matter for page statements."""
    found = connection.execute(
        text(
            "SELECT name, setting, unit FROM pg_settings WHERE name = ANY(:names) "
            "OR name IN ('block_size', 'server_version')"
        ),
        {"names": list(SETTINGS)},
    ).all()
    values = {str(name): (str(value), str(unit or "")) for name, value, unit in found}
    block = int(values["block_size"][0])
    # A replica reads dead rows that its primary would skip, and it may lag.
    replica = bool(connection.execute(text("SELECT pg_is_in_recovery()")).scalar())
    settings = {name: " ".join(values[name]).strip() for name in SETTINGS if name in values}
    settings["replica"] = "yes" if replica else "no"
    if replica:
        lag = connection.execute(
            text("SELECT extract(epoch FROM now() - pg_last_xact_replay_timestamp())")
        ).scalar()
        settings["replica_lag_s"] = "unknown" if lag is None else f"{float(lag):.1f}"
    return {
        "version": values["server_version"][0],
        "block_bytes": block,
        "cache_bytes": int(values["shared_buffers"][0]) * block,
        "settings": settings,
    }


def block_bytes(connection: Connection) -> int:
    """Return the bytes of a block."""
    return int(connection.execute(text("SELECT current_setting('block_size')")).scalar() or 8192)


def list_tables(connection: Connection) -> list[str]:
    """Return the names of the user's tables, with their schema where it is not searched."""
    return [str(name) for (name,) in connection.execute(_TABLES)]


def read_table(connection: Connection, name: str, notes: list[str]) -> TableFacts | None:
    """Return what the catalog tells of a table, None where there is none that may be read.

    `rows` is -1 where no statistics were ever taken.
    """
    oid = connection.execute(_FIND, {"name": name}).scalar()
    if oid is None:
        return None
    # By its number from here on: a name can be found in several schemas.
    found = connection.execute(_TABLE, {"oid": oid, "name": name}).mappings().one()
    # Named as it was asked for: a listing may name the schema of a table that is found without.
    space = found["space"]
    name = str(found["relname"]) if space is None else f"{space}.{found['relname']}"
    if not found["readable"]:
        notes.append(f"{name}: this user may not read it; its statistics are hidden too")
    block = block_bytes(connection)
    rows, pages, all_visible, size = (
        float(found[key] or 0) for key in ("reltuples", "relpages", "relallvisible", "bytes")
    )
    parts = 0
    if found["relkind"] == "p":
        part = connection.execute(_PARTS, {"oid": found["oid"]}).mappings().one()
        parts, size = int(part["parts"]), float(part["bytes"] or 0)
        # One partition that was never analysed makes the sum of the others wrong.
        rows = float(part["rows"] or 0) if part["known"] else -1.0
        pages, all_visible = float(part["pages"] or 0), float(part["visible"] or 0)
    if found["relkind"] in ("v", "f"):
        notes.append(f"{name}: what lies behind it is not known here; its pages are counted alone")
        return _read_remote(connection, name, found["oid"], block, space)
    blocks = size / block
    # Statistics tell rows a block; how many blocks there are is known at any moment.
    if rows >= 0 and pages > 0:
        rows = rows / pages * blocks
    elif rows >= 0 and blocks > 0:
        rows = -1.0
    # Blocks do not shrink when rows die, so scaled statistics take dead ones for live.
    scaled, rows = rows, _alive(rows, found["n_live_tup"], found["n_dead_tup"])
    columns = tuple(
        _column(one, rows) for one in connection.execute(_COLUMNS, {"oid": found["oid"]}).mappings()
    )
    indexes, keys = _read_indexes(connection, found["oid"], max(rows, 0.0), block, max(parts, 1))
    changed = found["n_mod_since_analyze"]
    return TableFacts(
        name=name,
        rows=rows,
        rows_from="catalog, scaled to the blocks there are"
        if rows == scaled
        else "rows that the server counts as alive",
        row_bytes=_row_bytes(scaled, blocks, block),
        blocks=max(blocks, 1.0),
        columns=columns,
        indexes=indexes,
        primary_key=keys,
        visible_share=min(all_visible / blocks, 1.0) if blocks else 1.0,
        dead_rows=float(found["n_dead_tup"] or 0),
        changed_rows=None if changed is None else float(changed),
        partitions=parts,
        row_security=bool(found["relrowsecurity"]),
        schema=space,
    )


def _read_remote(
    connection: Connection, name: str, oid: int, block: int, space: str | None
) -> TableFacts:
    """Return what is known of a view or a foreign table: columns, and an estimate of rows."""
    rows = _estimated(connection, name)
    found = connection.execute(_COLUMNS, {"oid": oid}).mappings()
    columns = tuple(_column(one, rows) for one in found)
    bytes_ = 28.0 + sum(column.width or usual_width(column.type) for column in columns)
    return TableFacts(
        name=name,
        rows=rows,
        rows_from="estimate of the server",
        row_bytes=bytes_,
        blocks=max(rows * bytes_ / block, 1.0),
        columns=columns,
        indexes=(),
        primary_key=(),
        schema=space,
        is_view=True,
    )


def _alive(scaled: float, live: int | None, dead: int | None) -> float:
    """Return the rows of a table whose blocks hold many dead ones, as the server counts them.

    Its statistics scaled to the blocks there are take dead rows for live ones. Where live and dead
    rows together come to about as many, the live ones are believed.
    """
    # The counters start from nothing after a crash, and know then of few rows.
    live, dead = live or 0, dead or 0
    many = dead > _MANY_DEAD * max(scaled, 1.0)
    agrees = abs(live + dead - scaled) < _AGREES * max(scaled, 1.0)
    return float(live) if scaled > 0 and live and many and agrees else scaled


_MANY_DEAD, _AGREES = 0.05, 0.3  # of the rows


def _estimated(connection: Connection, name: str) -> float:
    """Return the rows that the optimizer expects of a view or a foreign table."""
    asked = text(f"EXPLAIN (FORMAT JSON) SELECT * FROM {quoted_name(connection, name)}")
    return float(plan_in(connection.execute(asked).scalar())["Plan Rows"])


def read_parts(lender: Any, name: str) -> dict[str, str]:
    """Return the names of a table's partitions, and of their indexes, with what each is part of."""
    oid = lender.execute(_FIND, {"name": name}).scalar()
    if oid is None:
        return {}
    return {str(part): str(whole) for part, whole in lender.execute(_DIVIDED, {"oid": oid})}


def sample_rows(
    connection: Connection, table: TableFacts, columns: Sequence[str], blocks: int
) -> list[tuple[int, Any]]:
    """Return rows of some blocks drawn at random, each with its block's number.

    Values that Python cannot hold (an infinite date, 24:00) come as the texts that the database
    writes, with all others of their columns.
    """
    quote = connection.dialect.identifier_preparer.quote_identifier
    names = {column: quote(column).replace(":", "\\:") for column in columns}
    try:
        with connection.begin_nested():
            return _sample(connection, table, list(names.values()), blocks)
    except DataError:
        as_texts = {column.name for column in table.columns if not _PLAIN.match(column.type)}
        read = [
            f"CAST({name} AS text)" if column in as_texts else name
            for column, name in names.items()
        ]
        return _sample(connection, table, read, blocks)


_PLAIN = re.compile(r"smallint|integer|bigint|real|double|numeric|boolean|text|char|uuid|bytea")


def _sample(
    connection: Connection, table: TableFacts, read: Sequence[str], blocks: int
) -> list[tuple[int, Any]]:
    listed = ", ".join(read)
    source = quoted_name(connection, table.name)
    found: Sequence[Any] = ()
    for again in range(_SAMPLED_AGAIN):  # small tables and partitions may give no block at all
        # Blocks are drawn by chance, each by itself: a small table may give none at first.
        share = min(100.0 * blocks * 2**again / max(table.blocks, 1.0), 100.0)
        found = connection.execute(
            text(
                f"SELECT {BLOCK_OF_ROW}, {listed} FROM {source} "
                f"TABLESAMPLE SYSTEM ({share:.6f}) REPEATABLE ({again + 1}) LIMIT {blocks * 400}"
            ),
        ).all()
        if len(found) >= _FEWEST or share >= 100.0:
            break
    return [(int(row[0]), row[1:]) for row in found]


_SAMPLED_AGAIN, _FEWEST = 5, 64


PART_OF_ROW = "CAST(tableoid AS bigint)"
BLOCK_OF_ROW = "CAST((CAST(CAST(ctid AS text) AS point))[0] AS bigint)"
"""The number of the table block that a row lies in."""


def levels_of(
    connection: Connection, table: TableFacts, index: IndexFacts, order: str
) -> int | None:
    """Return the levels of an index from the planner's own start-up cost of reading it in `order`.

    The planner reads the height from the index and charges ceil(log2 entries) comparisons and 50
    for each level (btcostestimate in PostgreSQL's selfuncs.c). None where it takes another index.
    """
    source = quoted_name(connection, table.name)
    asked = text(f"EXPLAIN (FORMAT JSON) SELECT 1 FROM {source} ORDER BY {order}")
    found = connection.execute(asked).scalar()
    step = connection.execute(text("SELECT current_setting('cpu_operator_cost')")).scalar()
    node, compared = plan_in(found), float(str(step))
    startup = float(node["Startup Cost"])
    if node.get("Index Name") != index.name or table.rows < 2 or compared <= 0:
        return None
    # What is left of the start-up cost is 50 for each level.
    descent = startup / compared - math.ceil(math.log2(table.rows))
    return max(round(descent / 50), 1)


def steer_to_indexes(connection: Connection, most_ms: float) -> None:
    """Make the statements of this transaction use indexes where they can, and end in time."""
    for setting in ("enable_seqscan", "enable_bitmapscan", "enable_sort"):
        connection.execute(text(f"SET LOCAL {setting} = off"))
    connection.execute(text(f"SET LOCAL statement_timeout = {max(int(most_ms), 1)}"))


def quoted_name(connection: Connection, name: str) -> str:
    """Return a table's name for a statement: quoted as the server itself does."""
    oid = connection.execute(_FIND, {"name": name}).scalar()
    if oid is None:
        return name
    found = connection.execute(
        text("SELECT CAST(CAST(CAST(:oid AS oid) AS regclass) AS text)"), {"oid": oid}
    ).scalar()
    return str(found)


def _column(found: RowMapping, rows: float) -> ColumnFacts:
    distinct = found["n_distinct"]
    if distinct is not None:
        # Below 0 it is a share of the rows, so that it grows with them.
        distinct = float(distinct) if distinct >= 0 else -float(distinct) * max(rows, 0.0)
    # The server's arrays have one length, but an old copy of them may be cut.
    pairs = zip(found["common"] or (), map(float, found["shares"] or ()), strict=False)
    common = tuple((str(value), share) for value, share in pairs if value is not None)
    # Without statistics, types of fixed length tell their width themselves.
    width = found["avg_width"]
    if width is None and found["attlen"] > 0:
        width = found["attlen"]
    bounds = list(found["bounds"] or ())
    # A statistics target of 10,000 would make facts of megabytes.
    step = max(len(bounds) // (_MOST_BOUNDS - 1), 1)
    return ColumnFacts(
        name=str(found["attname"]),
        type=str(found["type"]),
        nullable=bool(found["nullable"]),
        width=None if width is None else float(width),
        null_share=None if found["null_frac"] is None else float(found["null_frac"]),
        distinct=distinct or None,
        common=common,
        bounds=tuple(map(str, bounds[::step])),
        correlation=None if found["correlation"] is None else round(float(found["correlation"]), 4),
        collation=found["collation"],
    )


def _read_indexes(
    connection: Connection, oid: int, rows: float, block: int, divided: int
) -> tuple[tuple[IndexFacts, ...], tuple[str, ...]]:
    grouped: dict[str, list[RowMapping]] = {}
    for one in connection.execute(_INDEXES, {"oid": oid}).mappings():
        grouped.setdefault(str(one["relname"]), []).append(one)
    indexes, keys = [], []
    for name, parts in grouped.items():
        first = parts[0]
        # What an index only includes sorts nothing.
        key = [part for part in parts if not part["included"]]
        if first["indisprimary"]:
            keys = [str(part["attname"]) for part in key]
        pages = max(float(first["bytes"] or 0) / block, 1.0)
        # A partial index has entries of its own number; any other has one a row.
        entries = float(first["reltuples"]) if first["where_"] else rows
        bytes_ = pages * block * 0.98 / entries if entries > 0 else None
        # Inner blocks hold entries like the leaves do, so one in so many is not a leaf.
        fan_out = max(block * 0.9 / max(bytes_ or 20.0, 12.0), 2.0)
        leaves = max((pages - 1) * (1 - 1 / fan_out), 1.0)
        indexes.append(
            IndexFacts(
                name=name,
                columns=tuple(
                    IndexColumn(one["attname"], bool(one["option"] & 1), bool(one["option"] & 2))
                    for one in key
                ),
                unique=bool(first["indisunique"]),
                partial=bool(first["where_"]),
                entry_bytes=None if bytes_ is None else round(bytes_, 1),
                leaf_blocks=round(leaves, 1),
                levels=1 + math.ceil(math.log(leaves / divided, fan_out))
                if leaves > divided
                else 1,
                included=tuple(str(one["attname"]) for one in parts if one["included"]),
                where=first["where_"],
            )
        )
    return tuple(indexes), tuple(keys)


def _row_bytes(rows: float, blocks: float, block: int) -> float:
    return round(blocks * block / rows, 1) if rows > 0 else 0.0
