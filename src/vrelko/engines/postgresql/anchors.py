"""Counted anchors on PostgreSQL: tables, triggers, snapshots and locks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sqlalchemy import Connection, Engine, Table, text

from vrelko.engines.anchoring import AnchorEngine, begin_repeatable, can_write, is_repeatable
from vrelko.sql.anchor_tables import AnchorNames, AnchorTables

_NONE = "WHERE false"
_IDENTITY = "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY"


def _create_log(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    # AS SELECT … WHERE false copies types and collations, domains too.
    copied = n.copied(n.tables.log_columns)
    yield f"CREATE TABLE {n.log} AS SELECT 0::smallint AS d, {copied} FROM {n.source} {_NONE}"
    yield f"ALTER TABLE {n.log} ADD COLUMN seq {_IDENTITY}"
    # Rows come and go by the thousand: without this, summing a short log reads hundreds of pages.
    yield (
        f"ALTER TABLE {n.log} SET (autovacuum_vacuum_scale_factor = 0, "
        "autovacuum_vacuum_threshold = 2000)"
    )
    yield n.state_table()


def _create_triggers(n: AnchorNames, facts: dict[str, str]) -> Iterator[str]:
    # Not CREATE INDEX's order but the table's state says whose anchors there are: a TRUNCATE takes
    # all of them, and gives each a version that nobody remembers.
    begun = n.in_schema("").removesuffix('""').replace("'", "''")
    name = f"format('%s%I', '{begun}', '{n.tables.anchors_of_group}' || one)"
    yield (
        # With the rights of who builds: who writes the table needs none on the log. Schemas are
        # fixed, or who writes could put a table of theirs in the log's place.
        f"CREATE OR REPLACE FUNCTION {_function(n)}() RETURNS trigger LANGUAGE plpgsql "
        f"SECURITY DEFINER SET search_path = {facts['schemas']} "
        "AS $vrelko$ DECLARE one text; BEGIN\n"
        # Rows are deleted and not truncated, which would wait for readers who wait for this.
        f"IF TG_OP = 'TRUNCATE' THEN DELETE FROM {n.log};\n"
        f"FOR one IN SELECT mark FROM {n.state} LOOP EXECUTE 'DELETE FROM ' || {name}; END LOOP;\n"
        f"UPDATE {n.state} SET version = sign(version) * (1 + floor(random() * 4e18)::bigint); "
        "RETURN NULL; END IF;\n"
        f"IF TG_OP <> 'INSERT' THEN {n.insert('old', -1)}; END IF;\n"
        f"IF TG_OP <> 'DELETE' THEN {n.insert('new', 1)}; END IF;\n"
        "RETURN NULL; END $vrelko$"
    )
    old, new = (", ".join(f"{row}.{name}" for name in n.watched()) for row in ("old", "new"))
    run = f"EXECUTE FUNCTION {_function(n)}()"
    yield (
        f"CREATE OR REPLACE TRIGGER {_trigger(n, 'rows')} AFTER INSERT OR DELETE ON {n.source} "
        f"FOR EACH ROW {run}"
    )
    yield (
        f"CREATE OR REPLACE TRIGGER {_trigger(n, 'moves')} AFTER UPDATE ON {n.source} FOR EACH ROW "
        f"WHEN (({old}) IS DISTINCT FROM ({new})) {run}"
    )
    yield (
        f"CREATE OR REPLACE TRIGGER {_trigger(n, 'whole')} AFTER TRUNCATE ON {n.source} "
        f"FOR EACH STATEMENT {run}"
    )


def _create_anchors(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    yield (f"CREATE INDEX {n.quote(n.log_index)} ON {n.log} ({n.log_keys(nulls=True)}) INCLUDE (d)")
    copied = n.copied(n.tables.columns)
    yield (
        f"CREATE TABLE {n.anchors} AS SELECT 0::smallint AS lvl, 0 AS n, {copied} "
        f"FROM {n.source} {_NONE}"
    )
    yield f"ALTER TABLE {n.anchors} ADD COLUMN id {_IDENTITY}"
    # In the order of the keys, NULLs included: readers walk it from either end.
    yield f"CREATE INDEX ON {n.anchors} ({n.anchor_index(nulls=True)})"


def _function(n: AnchorNames) -> str:
    return n.in_schema(f"vrelko_{n.tables.group}_log")


def _trigger(n: AnchorNames, ending: str) -> str:
    # It is the table's, not the schema's.
    return n.quote(f"vrelko_{n.tables.group}_{ending}")


def _drop_anchors(n: AnchorNames) -> Iterator[str]:
    yield f"DROP TABLE IF EXISTS {n.anchors}"
    yield f"DROP INDEX IF EXISTS {n.in_schema(n.log_index)}"


def _drop_triggers(n: AnchorNames) -> Iterator[str]:
    # With its triggers, also those of a table that was renamed; a trigger by itself could only be
    # dropped by the table's owner.
    yield f"DROP FUNCTION IF EXISTS {_function(n)}() CASCADE"


def _drop_log(n: AnchorNames) -> Iterator[str]:
    yield from _drop_triggers(n)
    for table in (n.state, n.log):
        yield f"DROP TABLE IF EXISTS {table}"


def _identity(n: AnchorNames) -> str:
    quoted = n.source.replace("'", "''")
    return f"CAST(CAST(to_regclass('{quoted}') AS oid) AS text)"


_TRIGGERS = 3  # rows, moves and the whole table


def _has_triggers(connection: Connection, n: AnchorNames) -> bool:
    asked = text(
        "SELECT count(*) FROM pg_trigger WHERE tgrelid = to_regclass(:source) "
        "AND tgname LIKE :begun AND tgenabled <> 'D'"
    )
    # In a pattern _ stands for any character.
    begun = f"vrelko_{n.tables.group}_".replace("_", "\\_") + "%"
    return connection.execute(asked, {"source": n.source, "begun": begun}).scalar() == _TRIGGERS


def _add(connection: Connection, name: str, changes: Sequence[tuple[int, int]]) -> None:
    # One statement: a round trip an anchor would take most of a fold.
    values = ", ".join(f"({number:d}, {d:d})" for number, d in changes)
    connection.exec_driver_sql(
        f"UPDATE {name} SET n = n + changed.d FROM (VALUES {values}) AS changed (id, d) "
        f"WHERE {name}.id = changed.id"
    )


def _unseen(connection: Connection, table: Table) -> list[str]:
    name = connection.dialect.identifier_preparer.format_table(table)
    asked = text(
        "SELECT c.relkind, (SELECT count(*) FROM pg_inherits WHERE inhparent = c.oid) "
        "FROM pg_class c WHERE c.oid = CAST(:name AS regclass)"
    )
    kind, children = connection.execute(asked, {"name": name}).one()
    found = ["sessions with session_replication_role = replica, or triggers disabled"]
    # A trigger of the partitioned table fires for each partition's rows, but not when one is hung
    # in.
    if kind == "p":
        found.append("partitions that are attached or detached with rows in them")
    elif children:
        found.append(f"rows of {children} child tables, which fire triggers of their own alone")
    return found


def _read_facts(engine: Engine, tables: AnchorTables) -> dict[str, str]:
    """Return the schemas that the builder's names are looked for in, temporary tables last."""
    asked = text("SELECT string_agg(quote_ident(s), ', ') FROM unnest(current_schemas(false)) s")
    with engine.connect() as connection:
        schemas = connection.execute(asked).scalar()
    return {"schemas": f"{schemas}, pg_temp" if schemas else "pg_temp"}


def _may_read(connection: Connection, n: AnchorNames) -> bool | None:
    # NULL where a table is not there.
    asked = " AND ".join(
        f"has_table_privilege(to_regclass('{quoted}'), 'SELECT')"
        for quoted in (name.replace("'", "''") for name in (n.state, n.log, n.anchors))
    )
    found = connection.exec_driver_sql(f"SELECT {asked}".replace("%", "%%")).scalar()
    return None if found is None else bool(found)


def _grants(n: AnchorNames, role: str, folds: bool) -> Iterator[str]:
    rights = "SELECT, INSERT, UPDATE, DELETE" if folds else "SELECT"
    yield f"GRANT {rights} ON {n.log}, {n.state}, {n.anchors} TO {n.quote(role)}"


ANCHORS = AnchorEngine(
    create_log=_create_log,
    create_triggers=_create_triggers,
    create_anchors=_create_anchors,
    drop_anchors=_drop_anchors,
    drop_log=_drop_log,
    drop_triggers=_drop_triggers,
    has_triggers=_has_triggers,
    identity=_identity,
    read_facts=_read_facts,
    may_read=_may_read,
    may_write=can_write,
    grants=_grants,
    short_waits=("SET lock_timeout = '1s'", "RESET lock_timeout"),
    aborts=True,
    begin_snapshot=begin_repeatable,
    sees_one=is_repeatable,
    isolation="REPEATABLE READ",
    lock="SELECT pg_try_advisory_lock(hashtext(:name))",
    unlock="SELECT pg_advisory_unlock(hashtext(:name))",
    begin_alone=None,
    delete="DELETE FROM {0}",
    add=_add,
    unseen=_unseen,
)
