"""Counted anchors on PostgreSQL: tables, triggers, snapshots and locks."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import Connection, Table, text

from vrelko.engines.anchoring import AnchorEngine, begin_repeatable, copied, is_repeatable
from vrelko.sql.anchor_tables import AnchorNames

_NONE = "WHERE false"
_IDENTITY = "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY"


def _create(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    yield n.state_table()
    yield f"CREATE TABLE {n.log} AS SELECT 0::smallint AS d, {n.copied()} FROM {n.source} {_NONE}"
    yield f"ALTER TABLE {n.log} ADD COLUMN seq {_IDENTITY}"
    yield f"CREATE INDEX ON {n.log} ({n.index('', nulls=True)}) INCLUDE (d)"
    yield (
        f"ALTER TABLE {n.log} SET (autovacuum_vacuum_scale_factor = 0, "
        "autovacuum_vacuum_threshold = 2000)"
    )
    yield (
        f"CREATE FUNCTION {_function(n)}() RETURNS trigger LANGUAGE plpgsql AS $vrelko$ BEGIN\n"
        "IF TG_OP = 'TRUNCATE' THEN "
        f"TRUNCATE {n.log}, {n.anchors}, {n.state}; RETURN NULL; END IF;\n"
        f"IF TG_OP <> 'INSERT' THEN {n.insert('old', -1)}; END IF;\n"
        f"IF TG_OP <> 'DELETE' THEN {n.insert('new', 1)}; END IF;\n"
        "RETURN NULL; END $vrelko$"
    )
    old, new = (", ".join(f"{row}.{name}" for name in n.watched()) for row in ("old", "new"))
    run = f"EXECUTE FUNCTION {_function(n)}()"
    yield (
        f"CREATE TRIGGER {_trigger(n, 'rows')} AFTER INSERT OR DELETE ON {n.source} "
        f"FOR EACH ROW {run}"
    )
    yield (
        f"CREATE TRIGGER {_trigger(n, 'moves')} AFTER UPDATE ON {n.source} FOR EACH ROW "
        f"WHEN (({old}) IS DISTINCT FROM ({new})) {run}"
    )
    yield (
        f"CREATE TRIGGER {_trigger(n, 'whole')} AFTER TRUNCATE ON {n.source} "
        f"FOR EACH STATEMENT {run}"
    )
    yield (
        f"CREATE TABLE {n.anchors} AS SELECT 0::smallint AS lvl, 0 AS n, {n.copied()} "
        f"FROM {n.source} {_NONE}"
    )
    yield f"ALTER TABLE {n.anchors} ADD COLUMN id {_IDENTITY}"
    yield f"CREATE INDEX ON {n.anchors} ({n.index('lvl', nulls=True)})"


def _function(n: AnchorNames) -> str:
    return n.in_schema(f"vrelko_{n.tables.name}_log")


def _trigger(n: AnchorNames, ending: str) -> str:
    return n.quote(f"vrelko_{n.tables.name}_{ending}")  # it is the table's, not the schema's


def _drop(n: AnchorNames) -> Iterator[str]:
    for ending in ("rows", "moves", "whole"):
        yield f"DROP TRIGGER IF EXISTS {_trigger(n, ending)} ON {n.source}"
    yield f"DROP FUNCTION IF EXISTS {_function(n)}()"
    yield f"DROP TABLE IF EXISTS {n.log}, {n.anchors}, {n.state}"


def _unseen(connection: Connection, table: Table) -> list[str]:
    name = connection.dialect.identifier_preparer.format_table(table)
    asked = text(
        "SELECT c.relkind, (SELECT count(*) FROM pg_inherits WHERE inhparent = c.oid) "
        "FROM pg_class c WHERE c.oid = CAST(:name AS regclass)"
    )
    kind, children = connection.execute(asked, {"name": name}).one()
    found = ["sessions with session_replication_role = replica, or triggers disabled"]
    if kind == "p":
        found.append("partitions that are attached or detached with rows in them")
    elif children:
        found.append(f"rows of {children} child tables, which fire triggers of their own alone")
    return found


ANCHORS = AnchorEngine(
    create=_create,
    drop=_drop,
    types=copied,
    begin_snapshot=begin_repeatable,
    sees_one=is_repeatable,
    isolation="REPEATABLE READ",
    lock="SELECT pg_try_advisory_lock(hashtext(:name))",
    unlock="SELECT pg_advisory_unlock(hashtext(:name))",
    delete="DELETE FROM {0}",
    unseen=_unseen,
)
