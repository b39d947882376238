"""Tables of kinds that nobody designed for paging, drawn from a seed, with listings over them.

Each kind is a function that takes a random generator and an engine's name and returns a Drawn: how
to make the table, and the listings to read it by. Rows are made by integer arithmetic, so that all
engines hold the same.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field

from shapes import _SERIES, _hashed
from sqlalchemy import (
    BigInteger,
    Column,
    Engine,
    Enum,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    inspect,
    select,
    text,
)

from vrelko import Listing, Sizes

Id = BigInteger().with_variant(Integer, "sqlite")
USUAL = {"sizes": Sizes(20, max=None), "total": "exact", "expose": True}


@dataclass
class Drawn:
    """A table (or two) as drawn: `fill` holds an INSERT's columns and values over i for each."""

    name: str
    tables: list[Table]
    fill: dict[str, tuple[int, dict[str, str]]]
    listings: dict[str, Callable[[], Listing]]
    ddl: dict[str, str] = field(default_factory=dict)
    after: list[str] = field(default_factory=list)
    analysed: bool = True


def spread(step: int, distinct: int) -> str:
    """A value of so many distinct ones, scattered over the rows."""
    return f"({_hashed('i', step)} % {distinct})"


def skewed(step: int, distinct: int) -> str:
    """A value of so many distinct ones, the first of them half of all rows."""
    return f"CASE WHEN {_hashed('i', step + 2)} % 2 = 0 THEN 0 ELSE {spread(step, distinct)} END"


def listing(statement, order, **more):
    return lambda: Listing(statement, orders=order, name="x", **{**USUAL, **more})


def leading(rng: random.Random, engine: str) -> Drawn:
    """Indexes without the tie-breaker, on one column or on two, groups of 3 rows to half of all."""
    rows = rng.randrange(60, 340) * 1000
    few, some, many = (
        rng.randrange(3, 20),
        rng.randrange(200, 4000),
        rows // rng.randrange(2, 30),
    )
    t = Table(
        "frn_leading",
        MetaData(),
        Column("id", Id, primary_key=True),
        Column("few", Integer, nullable=False),
        Column("some", Integer, nullable=False),
        Column("many", Integer, nullable=False),
        Column("late", Integer),
        Column("note", String(80), nullable=False),
        Index("frn_leading_few", "few", "some"),
        Index("frn_leading_some", "some"),
        Index("frn_leading_many", "many"),
        Index("frn_leading_late", "late"),
    )
    step = rng.randrange(1000, 90000)
    fill = {
        "id": "i + 1",
        "few": spread(step, few),
        "some": skewed(step + 7, some),
        "many": spread(step + 31, many),
        "note": _note(60),
        "late": f"CASE WHEN {spread(step + 5, 4)} = 0 THEN NULL ELSE {spread(step, 500)} END",
    }
    c = t.c
    return Drawn(
        "leading",
        [t],
        {t.name: (rows, fill)},
        {
            "few, some": listing(select(t), "few,some,id"),
            "few, id": listing(select(t), "few,id"),
            "some, id": listing(select(t), "some,id"),
            "-many, id": listing(select(t), "-many,id"),
            "many, note, id": listing(select(t), "many,note,id"),
            "late, many": listing(select(t), "late,many,id"),
            "few = 1 by some": listing(select(t).where(c.few == 1), "some,note,id"),
            "some = 5 by id": listing(select(t).where(c.some == 5), "id"),
        },
    )


def accounts(rng: random.Random, engine: str) -> Drawn:
    """Like pgbench's own tables: accounts in branches that lie together, and a history."""
    rows = rng.randrange(1, 4) * 100_000
    t = Table(
        "pgbench_accounts",
        MetaData(),
        Column("aid", Integer, primary_key=True),
        Column("bid", Integer),
        Column("abalance", Integer),
        Column("filler", String(84)),
    )
    b = Table(
        "pgbench_branches",
        t.metadata,
        Column("bid", Integer, primary_key=True),
        Column("bbalance", Integer),
        Column("filler", String(88)),
    )
    fill = {
        "aid": "i + 1",
        "bid": "i / 10000 + 1" if engine != "mariadb" else "i DIV 10000 + 1",
        "abalance": spread(77, 9000),
        "filler": _note(80),
    }
    branches = {"bid": "i + 1", "bbalance": "0", "filler": _note(80)}
    c = t.c
    last = rows // 10_000
    return Drawn(
        "accounts",
        [t, b],
        {t.name: (rows, fill), b.name: (last, branches)},
        {
            "by aid": listing(select(t), "aid"),
            "branch 7 by aid": listing(select(t).where(c.bid == min(7, last)), "aid"),
            "last branch by aid": listing(select(t).where(c.bid == last), "aid"),
            "by balance": listing(select(t), "abalance,aid"),
            "join branches": listing(
                select(c.aid, c.abalance, b.c.bbalance).join(b, b.c.bid == c.bid), "aid"
            ),
            "one branch of a join": listing(
                select(c.aid, c.abalance).join(b, b.c.bid == c.bid).where(b.c.bid == 3), "aid"
            ),
        },
    )


def sbtest(rng: random.Random, engine: str) -> Drawn:
    """Like sysbench's own table."""
    rows = rng.randrange(10, 25) * 10_000
    t = Table(
        "sbtest1",
        MetaData(),
        Column("id", Integer, primary_key=True),
        Column("k", Integer, nullable=False),
        Column("c", String(120), nullable=False),
        Column("pad", String(60), nullable=False),
        Index("k_1", "k"),
    )
    middle = f"({spread(7, rows)} + {spread(911, rows)} + {spread(31, rows)}) "
    middle += "DIV 3" if engine == "mariadb" else "/ 3"
    fill = {"id": "i + 1", "k": middle, "c": _note(110), "pad": _note(55)}
    return Drawn(
        "sbtest",
        [t],
        {t.name: (rows, fill)},
        {
            "by id": listing(select(t), "id"),
            "by k": listing(select(t), "k,id"),
            "-k": listing(select(t.c.id, t.c.k), "-k,-id"),
            "k between": listing(select(t).where(t.c.k.between(rows // 3, rows // 2)), "k,id"),
            "k between by id": listing(select(t).where(t.c.k.between(rows // 3, rows // 2)), "id"),
            "by c": listing(select(t.c.id, t.c.c), "c,id"),
        },
    )


def partitioned(rng: random.Random, engine: str) -> Drawn:
    """Partitioned by the order's column, and by another; on SQLite without row ids instead."""
    rows = rng.randrange(60, 200) * 1000
    parts = rng.randrange(3, 8)
    by = rng.choice(["ts", "zone"])
    step = rng.randrange(1000, 90000)
    name = f"frn_part_{by}"
    keys = ("id", by)
    t = Table(
        name,
        MetaData(),
        Column("id", Id, primary_key=True, autoincrement=False),
        Column("ts", Integer, primary_key=by == "ts", nullable=False),
        Column("zone", Integer, primary_key=by == "zone", nullable=False),
        Column("v", Integer, nullable=False),
        Column("note", String(60)),
        Index(f"{name}_ts", "ts", *(k for k in keys if k != "ts")),
        Index(f"{name}_v", "v"),
        sqlite_with_rowid=False,
    )
    top = rows if by == "ts" else 100
    bounds = [top * (i + 1) // parts for i in range(parts)]
    columns = (
        "id BIGINT NOT NULL, ts INT NOT NULL, zone INT NOT NULL, v INT NOT NULL, "
        f"note VARCHAR(60), PRIMARY KEY ({', '.join(keys)})"
    )
    ddl = {
        "postgresql": ";".join(
            [
                f"CREATE TABLE {name} ({columns}) PARTITION BY RANGE ({by})",
                *(
                    f"CREATE TABLE {name}_{i} PARTITION OF {name} FOR VALUES FROM "
                    f"({bounds[i - 1] if i else 'MINVALUE'}) TO ({bounds[i] + (i == parts - 1)})"
                    for i in range(parts)
                ),
            ]
        ),
        "mariadb": f"CREATE TABLE {name} ({columns}) PARTITION BY RANGE ({by}) ("
        + ", ".join(
            f"PARTITION p{i} VALUES LESS THAN ({bounds[i] + (i == parts - 1)})"
            for i in range(parts)
        )
        + ")",
    }
    fill = {
        "id": "i + 1",
        "ts": f"({spread(step, 1000)} * {rows // 1000})",
        "note": _note(40),
        "zone": spread(step + 5, 100),
        "v": spread(step + 9, 3000),
    }
    c = t.c
    return Drawn(
        f"partitioned by {by}",
        [t],
        {name: (rows, fill)},
        {
            "by ts": listing(select(t), ["ts," + ",".join(k for k in keys if k != "ts")]),
            "-ts": listing(select(t), ["-ts," + ",".join("-" + k for k in keys if k != "ts")]),
            "by v": listing(select(t), "v," + ",".join(keys)),
            "by id": listing(select(t), ",".join(keys)),
            "v = 7 by ts": listing(
                select(t).where(c.v == 7), "ts," + ",".join(k for k in keys if k != "ts")
            ),
        },
        ddl,
    )


def composite(rng: random.Random, engine: str) -> Drawn:
    """A composite primary key, rows laid otherwise; an index on a value alone."""
    rows = rng.randrange(60, 200) * 1000
    width = rng.randrange(5, 2000)
    t = Table(
        "frn_composite",
        MetaData(),
        Column("a", Integer, primary_key=True, autoincrement=False),
        Column("b", Integer, primary_key=True, autoincrement=False),
        Column("v", Integer, nullable=False),
        Column("note", String(100), nullable=False),
        Index("frn_composite_v", "v"),
        Index("frn_composite_b", "b", "v"),
    )
    moved = f"((i * 7919 + 13) % {rows})" if rows % 7919 else "i"
    divide = "DIV" if engine == "mariadb" else "/"
    fill = {
        "a": f"({moved} {divide} {width})",
        "b": f"({moved} % {width})",
        "v": spread(331, rng.randrange(100, 20_000)),
        "note": _note(90),
    }
    c = t.c
    return Drawn(
        "composite",
        [t],
        {t.name: (rows, fill)},
        {
            "by key": listing(select(t), "a,b"),
            "by v": listing(select(t), "v,a,b"),
            "-a, b": listing(select(t), "-a,b"),
            "b = 3 by v": listing(select(t).where(c.b == 3), "v,a"),
            "a, v": listing(select(t), "a,v,b"),
            "covering": listing(select(c.a, c.b), "a,b"),
        },
    )


def keyless(rng: random.Random, engine: str) -> Drawn:
    """No key and no index that serves: columns that happen to be unique."""
    rows = rng.randrange(30, 90) * 1000
    t = Table(
        "frn_keyless",
        MetaData(),
        Column("ts", Integer, nullable=False),
        Column("seq", Integer, nullable=False),
        Column("level", Integer, nullable=False),
        Column("note", String(120)),
        Index("frn_keyless_ts", "ts"),
    )
    per = rng.choice([1, 5, 40, 600])
    divide = "DIV" if engine == "mariadb" else "/"
    fill = {"ts": f"(i {divide} {per})", "seq": "i", "level": spread(19, 6), "note": _note(100)}
    unique = {"unique": ["seq"]}
    return Drawn(
        "keyless",
        [t],
        {t.name: (rows, fill)},
        {
            "by ts": listing(select(t), "ts,seq", **unique),
            "-ts": listing(select(t), "-ts,-seq", **unique),
            "by seq": listing(select(t), "seq", **unique),
            "by level": listing(select(t), "level,seq", **unique),
            "level 2 by ts": listing(select(t).where(t.c.level == 2), "ts,seq", **unique),
        },
    )


def correlated(rng: random.Random, engine: str) -> Drawn:
    """Conditions that go with the order, or with each other."""
    rows = rng.randrange(60, 250) * 1000
    t = Table(
        "frn_correlated",
        MetaData(),
        Column("id", Id, primary_key=True),
        Column("late", Integer, nullable=False),
        Column("city", Integer, nullable=False),
        Column("state", Integer, nullable=False),
        Column("at", Integer, nullable=False),
        Column("note", String(60)),
        Index("frn_correlated_at", "at", "id"),
        Index("frn_correlated_city", "city"),
    )
    part = rng.choice([100, 20, 5])
    fill = {
        "id": "i + 1",
        "late": f"CASE WHEN i > {rows - rows // part} THEN 1 ELSE 0 END",
        "city": spread(53, 400),
        "state": f"({spread(53, 400)} % 20)",
        "at": f"(i + {spread(77, 3000)})",
        "note": _note(50),
    }
    c = t.c
    return Drawn(
        "correlated",
        [t],
        {t.name: (rows, fill)},
        {
            "late by id": listing(select(t).where(c.late == 1), "id"),
            "late by -id": listing(select(t).where(c.late == 1), "-id"),
            "late by at": listing(select(t).where(c.late == 1), "at,id"),
            "city and state": listing(select(t).where(c.city == 41, c.state == 1), "at,id"),
            "state by at": listing(select(t).where(c.state == 1), "at,id"),
        },
    )


def joined(rng: random.Random, engine: str) -> Drawn:
    """Orders of customers, the customer's columns shown or filtered by."""
    rows, people = rng.randrange(40, 150) * 1000, rng.randrange(500, 9000)
    meta = MetaData()
    o = Table(
        "frn_orders",
        meta,
        Column("id", Id, primary_key=True),
        Column("customer", Integer, nullable=False),
        Column("at", Integer, nullable=False),
        Column("total", Integer),
        Index("frn_orders_at", "at", "id"),
        Index("frn_orders_customer", "customer"),
    )
    p = Table(
        "frn_people",
        meta,
        Column("id", Integer, primary_key=True, autoincrement=False),
        Column("name", String(40)),
        Column("region", Integer),
        Column("vip", Integer),
    )
    fill = {
        o.name: (
            rows,
            {
                "id": "i + 1",
                "customer": f"({spread(71, people)} + 1)",
                "at": spread(73, rows),
                "total": spread(79, 900),
            },
        ),
        p.name: (
            people,
            {"id": "i + 1", "name": _note(20), "region": spread(83, 20), "vip": spread(89, 2)},
        ),
    }
    both = select(o.c.id, o.c.at, p.c.name).join(p, p.c.id == o.c.customer)
    return Drawn(
        "joined",
        [o, p],
        fill,
        {
            "shown": listing(both, "at,id"),
            "by id": listing(both, "-id"),
            "outer": listing(select(o, p.c.name).outerjoin(p, p.c.id == o.c.customer), "at,id"),
            "region 3": listing(both.where(p.c.region == 3), "at,id"),
            "vip": listing(both.where(p.c.vip == 1), "at,id"),
            "by total": listing(both, "total,id"),
        },
    )


def unanalysed(rng: random.Random, engine: str) -> Drawn:
    """Filled and never analysed."""
    drawn = leading(rng, engine)
    drawn.name, drawn.analysed = "unanalysed", False
    return _renamed(drawn, "frn_unanalysed")


def updated(rng: random.Random, engine: str) -> Drawn:
    """Half of the rows updated, a tenth deleted at the beginning, after statistics were taken."""
    drawn = leading(rng, engine)
    drawn.name = "updated"
    drawn = _renamed(drawn, "frn_updated")
    ((rows, _),) = drawn.fill.values()
    drawn.after = [
        "UPDATE frn_updated SET late = late + 1 WHERE id % 2 = 0",
        f"DELETE FROM frn_updated WHERE id < {rows // 10}",
    ]
    return drawn


def texts(rng: random.Random, engine: str) -> Drawn:
    """Orders by texts, an enumeration and a moment kept as text."""
    rows = rng.randrange(40, 120) * 1000
    states = ("new", "paid", "sent", "back")
    t = Table(
        "frn_texts",
        MetaData(),
        Column("id", Id, primary_key=True),
        Column("name", String(60), nullable=False),
        Column("code", String(12)),
        Column("state", Enum(*states, name="frn_state"), nullable=False),
        Column("body", String(200)),
        Index("frn_texts_name", "name", "id"),
        Index("frn_texts_code", "code"),
        Index("frn_texts_state", "state", "id"),
    )
    chosen = (
        f"CASE {spread(13, 4)} "
        + " ".join(f"WHEN {i} THEN '{one}'" for i, one in enumerate(states))
        + " END"
    )
    if engine == "postgresql":
        chosen = f"CAST({chosen} AS frn_state)"
    fill = {
        "id": "i + 1",
        "name": _joined(engine, "'bird '", spread(17, 5000)),
        "code": _joined(engine, "'c'", spread(23, rows)),
        "state": chosen,
        "body": _note(150),
    }
    c = t.c
    return Drawn(
        "texts",
        [t],
        {t.name: (rows, fill)},
        {
            "by name": listing(select(t), "name,id"),
            "by code": listing(select(c.id, c.code), "code,id"),
            "by state": listing(select(t), "state,id"),
            "-state": listing(select(t), "-state,-id"),
            "sent by name": listing(select(t).where(c.state == "sent"), "name,id"),
            "by body": listing(select(c.id, c.body), "body,id"),
        },
    )


KINDS = (leading, accounts, sbtest, partitioned, composite, keyless, correlated, joined,
         unanalysed, updated, texts)  # fmt: skip


def draw_shapes(engine: str, seed: int, count: int = 13) -> list[Drawn]:
    """Return tables drawn from a seed: one of each kind, then kinds at random."""
    found = []
    for i in range(count):
        rng = random.Random(f"{seed} {i}")
        kind = KINDS[i] if i < len(KINDS) else rng.choice(KINDS)
        found.append(kind(rng, engine))
    return found


def make(engine: Engine, drawn: Drawn) -> None:
    """Create and fill the tables of a kind anew."""
    dialect = {"mysql": "mariadb"}.get(engine.dialect.name, engine.dialect.name)
    with engine.begin() as connection:
        for table in drawn.tables:
            if inspect(connection).has_table(table.name):
                connection.execute(text(f"DROP TABLE {table.name}"))
        if dialect in drawn.ddl:
            for part in drawn.ddl[dialect].split(";"):
                connection.execute(text(part))
        for table in drawn.tables:
            indexes, table.indexes = list(table.indexes), set()
            if dialect not in drawn.ddl:
                table.create(connection)
            table.indexes = set(indexes)
            rows, fill = drawn.fill[table.name]
            series = _SERIES[dialect].format(last=rows - 1)
            names = ", ".join(connection.dialect.identifier_preparer.quote(n) for n in fill)
            connection.execute(
                text(
                    f"INSERT INTO {table.name} ({names}) "
                    f"SELECT {', '.join(fill.values())} FROM {series}"
                )
            )
            for index in indexes:
                index.create(connection)
        if dialect == "postgresql":  # else rows are told of as changed after they were analysed
            connection.execute(text("SELECT pg_stat_force_next_flush()"))
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        for table in drawn.tables:
            if dialect == "postgresql":
                if dialect not in drawn.ddl:
                    quiet = "SET (autovacuum_enabled = off)"
                    connection.execute(text(f"ALTER TABLE {table.name} {quiet}"))
                if drawn.analysed:
                    connection.execute(text(f"VACUUM ANALYZE {table.name}"))
            elif drawn.analysed:
                word = "ANALYZE TABLE" if dialect == "mariadb" else "ANALYZE"
                connection.execute(text(f"{word} {table.name}"))
        for statement in drawn.after:
            connection.execute(text(statement))
        if dialect == "postgresql" and drawn.after:  # dead rows are told of within a second, else
            connection.execute(text("SELECT pg_stat_force_next_flush()"))


def _note(width: int) -> str:
    length = f"CAST({width // 2} + i % {max(width // 2, 1)} AS INTEGER)"
    return f"substr('{'x' * width}', 1, {length})"


def _joined(engine: str, *parts: str) -> str:
    if engine == "mariadb":
        return f"CONCAT({', '.join(parts)})"
    texts = [part if part.startswith("'") else f"CAST({part} AS text)" for part in parts]
    return " || ".join(texts)


def _renamed(drawn: Drawn, name: str) -> Drawn:
    """The same table, indexes and listings under another name."""
    (old,) = drawn.tables
    (fill,) = drawn.fill.values()
    t = Table(
        name,
        MetaData(),
        *(Column(c.name, c.type, primary_key=c.primary_key, nullable=c.nullable) for c in old.c),
    )
    for index in old.indexes:
        Index(index.name.replace(old.name, name), *(t.c[c.name] for c in index.columns))
    made = {
        "few, some": listing(select(t), "few,some,id"),
        "few, id": listing(select(t), "few,id"),
        "some, id": listing(select(t), "some,id"),
        "-many, id": listing(select(t), "-many,id"),
        "by id": listing(select(t), "id"),
        "few = 1 by id": listing(select(t).where(t.c.few == 1), "id"),
    }
    return Drawn(drawn.name, [t], {name: fill}, made, {}, drawn.after, drawn.analysed)
