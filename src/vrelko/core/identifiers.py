"""Names in SQL text: quoted where an engine would read them as something else."""

from __future__ import annotations

import re

from vrelko.core.engine_traits import TRAITS

_RESERVED_TEXT = """
accessible add admin after all alter analyse analyze and any array as asc asensitive asymmetric
attach authorization autoincrement before begin between bigint binary blob both by call cascade
case cast change char character check collate column commit condition conflict constraint continue
convert create cross cube cume_dist current_catalog current_date current_role current_schema
current_time current_timestamp current_user cursor database databases day_hour day_microsecond
day_minute day_second dec decimal declare default deferrable deferred delayed delete dense_rank
desc describe detach deterministic distinct distinctrow div do double drop dual each else elseif
empty enclosed end escape escaped except exclusive exists exit explain fail false fetch
first_value float float4 float8 for force foreign freeze from full fulltext function general
generated get get_master_public_key glob grant group grouping groups having high_priority
hour_microsecond hour_minute hour_second if ignore ignore_server_ids ilike immediate in index
indexed infile initially inner inout insensitive insert instead int int1 int2 int3 int4 int8
integer intersect interval into io_after_gtids io_before_gtids is isnull iterate join json_table
key keys kill lag last_value lateral lead leading leave left like limit linear lines load
localtime localtimestamp lock long longblob longtext loop low_priority master_bind
master_heartbeat_period master_ssl_verify_server_cert match maxvalue mediumblob mediumint
mediumtext member middleint minute_microsecond minute_second mod modifies natural new
no_write_to_binlog not notnull nth_value ntile null numeric of off offset old on only optimize
optimizer_costs option optionally or order out outer outfile over overlaps parallel
parse_gcol_expr partition percent_rank persist persist_only placing plan pragma precision primary
procedure purge qualify query raise range rank read read_write reads real recursive references
regexp reindex release rename repeat replace require resignal restrict return returning revoke
right rlike role rollback row row_number rows schema schemas second_microsecond select sensitive
separator session_user set show signal similar slow smallint some spatial specific sql
sql_after_gtids sql_before_gtids sql_big_result sql_calc_found_rows sql_small_result sqlexception
sqlstate sqlwarning ssl starting stored straight_join symmetric system table temp temporary
terminated then tinyblob tinyint tinytext to trailing transaction trigger true undo union unique
unlock unsigned update usage use user using utc_date utc_time utc_timestamp vacuum values
varbinary varchar varcharacter variadic varying verbose view virtual when where while window with
write xor year_month zerofill
"""
"""Words that PostgreSQL, MariaDB or SQLite keep for themselves."""

_RESERVED = frozenset(_RESERVED_TEXT.split())
_PLAIN = re.compile(r"[a-z_][a-z0-9_]*")


def quote(name: str, engine: str) -> str:
    """Return a name as a statement holds it: quoted unless plain, lower-case and not reserved.

    MariaDB quotes by backticks, the others by double quotes; a quote within is doubled.
    """
    # A capital letter must be quoted too: PostgreSQL folds what is not.
    if _PLAIN.fullmatch(name) and name not in _RESERVED:
        return name
    mark = TRAITS[engine].quote_mark
    return mark + name.replace(mark, mark * 2) + mark


def quote_table(name: str, schema: str | None, engine: str) -> str:
    """Return a table's name as a statement holds it, `name` beginning with the schema if any."""
    if schema is None:
        return quote(name, engine)
    return f"{quote(schema, engine)}.{quote(name[len(schema) + 1 :], engine)}"


def plain_name(*parts: str) -> str:
    """Return a name for something new, of letters, digits and underscores, at most 60 of them."""
    # PostgreSQL cuts names at 63 bytes, MariaDB refuses more than 64 characters.
    return re.sub(r"\W+", "_", "_".join(parts)).strip("_")[:60]
