"""A table of a million rows on each engine, with an index for every order shape that is measured.

Values come from integer arithmetic on the row's number, so all engines hold the same rows.
"""

from __future__ import annotations

from sqlalchemy import (
    BigInteger,
    Column,
    Double,
    Engine,
    Index,
    Integer,
    MetaData,
    SmallInteger,
    String,
    Table,
    inspect,
    text,
)

ROWS = 1_000_000

metadata = MetaData()
m = Table(
    "m",
    metadata,
    Column("id", BigInteger().with_variant(Integer, "sqlite"), primary_key=True),
    Column("station", Integer, nullable=False),
    Column("species", Integer, nullable=False),
    Column("status", SmallInteger, nullable=False),
    Column("hour", Integer, nullable=False),
    Column("weight", Double),
    Column("note", String(60), nullable=False),
    Index("m_hour", "hour", "id"),
    Index("m_station", "station", "hour", "id"),
    Index("m_status", "status", "hour", "id"),
    Index("m_status_id", "status", "id"),
    Index("m_three", "species", "status", "hour", "id"),
    Index("m_weight", "weight", "id"),
)

_SERIES = {
    "sqlite": "(WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows}) "
    "SELECT i FROM n) AS s",
    "postgresql": "generate_series(1::bigint, {rows}) AS s(i)",
    "mysql": "(SELECT seq AS i FROM seq_1_to_{rows}) AS s",
}
_MIXED = {
    "sqlite": "CREATE INDEX m_mixed ON m (hour DESC, id)",
    "postgresql": "CREATE INDEX m_mixed ON m (hour DESC, id)",
    "mysql": "CREATE INDEX m_mixed ON m (hour DESC, id)",
}


def make(engine: Engine, rows: int = ROWS) -> None:
    """Create and fill the table, unless it is there with as many rows."""
    name = {"mariadb": "mysql"}.get(engine.dialect.name, engine.dialect.name)
    if inspect(engine).has_table("m"):
        with engine.connect() as connection:
            if connection.scalar(text("SELECT count(*) FROM m")) == rows:
                return
    metadata.drop_all(engine)
    m.create(engine)
    cast = "CAST({} AS DOUBLE)" if name != "postgresql" else "({})::double precision"
    weight = cast.format("(i * 48271) % 20011")
    note = "'note ' || i || ' of a bird caught and ringed'"
    if name == "mysql":
        note = "concat('note ', i, ' of a bird caught and ringed')"
    insert = (
        "INSERT INTO m (id, station, species, status, hour, weight, note) SELECT i, "
        "(i * 7919) % 199 + 1, ((i * 104729) % 401) * ((i * 31) % 401) / 401 + 1, "
        "CASE WHEN (i * 613) % 100 < 50 THEN 0 ELSE (i * 613) % 4 + 1 END, "
        "(i + (i * 2654435) % 1009 * 20) / 60, "
        f"CASE WHEN (i * 271) % 20 < 3 THEN NULL ELSE {weight} / 10 END, {note} FROM "
        + _SERIES[name].format(rows=rows)
    )
    if name == "mysql":
        insert = insert.replace(") / 60", ") DIV 60").replace("/ 401", "DIV 401")
    with engine.begin() as connection:
        connection.execute(text(insert))
        connection.execute(text(_MIXED[name]))
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(
            text(
                "VACUUM ANALYZE m"
                if name == "postgresql"
                else "ANALYZE TABLE m"
                if name == "mysql"
                else "ANALYZE"
            )
        )
