"""Tables of many shapes, made by integer arithmetic so that all engines hold the same rows.

`id` primary key, `k` order key, `g` equality column, `r` residual column, `w` order key with NULLs,
`pad` to make rows wide; indexes (k, id), (g, k, id), (w, id).
"""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import (
    BigInteger,
    Column,
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


@dataclass(frozen=True)
class Shape:
    """One table: rows, bytes of padding, how `k` lies to the rows' place, what happened since."""

    name: str
    rows: int
    pad: int
    lies: str  # ordered, random, mixed, local
    updated: bool = False
    without_rowid: bool = False

    @property
    def table(self) -> Table:
        table = Table(
            self.name,
            MetaData(),
            Column("id", BigInteger().with_variant(Integer, "sqlite"), primary_key=True),
            Column("k", Integer, nullable=False),
            Column("g", Integer, nullable=False),
            Column("r", SmallInteger, nullable=False),
            Column("w", Integer),
            Column("pad", String(self.pad), nullable=False),
            sqlite_with_rowid=not self.without_rowid,
        )
        Index(f"{self.name}_k", table.c.k, table.c.id)
        Index(f"{self.name}_g", table.c.g, table.c.k, table.c.id)
        Index(f"{self.name}_w", table.c.w, table.c.id)
        return table


_TESTED = [
    ("chk_a", 110_000, 150, "mixed"), ("chk_b", 150_000, 540, "random"),
    ("chk_c", 200_000, 60, "ordered"), ("chk_d", 240_000, 300, "local"),
    ("chk_e", 300_000, 20, "random"), ("chk_f", 380_000, 110, "mixed"),
    ("chk_g", 460_000, 50, "local"), ("chk_h", 250_000, 420, "ordered"),
    ("chk_i", 170_000, 80, "random", True), ("chk_j", 600_000, 70, "mixed"),
    ("chk_k", 1_300_000, 30, "ordered"), ("chk_l", 3_000_000, 25, "random"),
]  # fmt: skip
_LEARNT = [
    ("lrn_a", 120_000, 90, "random"), ("lrn_b", 180_000, 400, "ordered"),
    ("lrn_c", 320_000, 30, "mixed"), ("lrn_d", 500_000, 120, "local"),
    ("lrn_e", 160_000, 240, "random", True), ("lrn_f", 800_000, 30, "random"),
]  # fmt: skip


def shapes(scale: float = 1.0, tested: bool = True) -> list[Shape]:
    """Twelve tables, from 100 thousand to 3 million rows at scale 1.

    `tested` False: six others, on which the shipped rates were fitted.
    """
    given = _TESTED if tested else _LEARNT
    found = []
    for name, rows, pad, lies, *updated in given:
        found.append(Shape(name, max(int(rows * scale), 2_000), pad, lies, bool(updated)))
    return found


_SERIES = {
    "sqlite": "(WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {last}) "
    "SELECT i FROM n) AS s",
    "postgresql": "generate_series(0::bigint, {last}) AS s(i)",
    "mariadb": "(SELECT seq AS i FROM seq_0_to_{last}) AS s",
}
_PAD = {
    "sqlite": "substr(hex(zeroblob({half})), 1, {pad})",
    "postgresql": "repeat('x', {pad})",
    "mariadb": "repeat('x', {pad})",
}


def make(engine: Engine, shape: Shape) -> Table:
    """Create and fill a table, unless it is there with as many rows."""
    dialect = {"mysql": "mariadb"}.get(engine.dialect.name, engine.dialect.name)
    table = shape.table
    if inspect(engine).has_table(shape.name):
        with engine.connect() as connection:
            rows = connection.execute(text(f"SELECT count(*) FROM {shape.name}")).scalar()
        if rows == shape.rows:
            return table
        table.drop(engine)
    n = shape.rows
    mixed = _permuted("i", n)
    k = {
        "ordered": "i",
        "random": mixed,
        "mixed": f"CASE WHEN i % 10 < 7 THEN i ELSE {mixed} END",
        "local": f"i - i % 2000 + {_permuted('(i % 2000)', 2000)}",
    }[shape.lies]
    spread = f"({_hashed('i', 7_919)} % 1000)"
    g = f"CASE WHEN {spread} < 100 THEN 0 WHEN {spread} < 109 THEN 1 ELSE 2 + {spread} % 500 END"
    r = f"{_hashed('i', 104_729)} % 100"
    w = f"CASE WHEN {_hashed('i', 31_337)} % 5 = 0 THEN NULL ELSE {_permuted('i', n)} / 3 END"
    pad = _PAD[dialect].format(pad=shape.pad, half=shape.pad // 2 + 1)
    series = _SERIES[dialect].format(last=n - 1)
    indexes = list(table.indexes)
    with engine.begin() as connection:
        table.indexes.clear()
        table.create(connection)
        connection.execute(
            text(
                f"INSERT INTO {shape.name} (id, k, g, r, w, pad) "
                f"SELECT i + 1, {k}, {g}, {r}, {w}, {pad} FROM {series}"
            )
        )
        for index in indexes:
            index.create(connection)
            table.indexes.add(index)
    _settle(engine, dialect, shape)
    return table


def _hashed(i: str, step: int) -> str:
    """A number without a pattern along `i`: a square modulo a prime."""
    h = f"(({i} * {step} + 17) % 1000003)"
    return f"(({h} * {h} + {i} * 31) % 999983)"


def _permuted(i: str, n: int) -> str:
    step = next(p for p in (7_919, 104_729, 1_299_709, 15_485_863) if n % p)
    return f"({i} * {step} + 13) % {n}"


def _settle(engine: Engine, dialect: str, shape: Shape) -> None:
    """Take statistics once, as a server does in time; the updated table is changed after that."""
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        if dialect == "postgresql":
            connection.execute(text(f"ALTER TABLE {shape.name} SET (autovacuum_enabled = off)"))
            connection.execute(text(f"VACUUM ANALYZE {shape.name}"))
        elif dialect == "mariadb":
            connection.execute(text(f"ANALYZE TABLE {shape.name}"))
        if shape.updated:
            connection.execute(text(f"UPDATE {shape.name} SET r = (r + 1) % 100 WHERE id % 4 = 0"))
            if dialect == "postgresql":
                connection.execute(text(f"ANALYZE {shape.name}"))
