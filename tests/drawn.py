"""Tables, selects, orders and strategies drawn at random, each walk held equal to one statement.

`python tests/drawn.py ENGINE TABLES WALKS [SEED]` runs many of them, as the property test runs a
few, and prints what it found.
"""

from __future__ import annotations

import random
import sys
import warnings
from collections import Counter
from contextlib import contextmanager

from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    func,
    literal,
    select,
    union_all,
)
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session, aliased, registry

from exposed import Listing
from stored import FIRST, TYPES, UNSORTED, summer_zone
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError, ListingError, OrderError, VrelkoError
from walks import shown

STRATEGIES = ("keyset", "offset", "two-ended", "deferred-join")
KEYS = {
    "id": ("id INTEGER NOT NULL", "PRIMARY KEY (id)"),
    "row id": ("id INTEGER PRIMARY KEY", ""),
    "two": ("id INTEGER NOT NULL, q INTEGER NOT NULL", "PRIMARY KEY (q, id)"),
    "text": ("id INTEGER NOT NULL, q VARCHAR(20) NOT NULL", "PRIMARY KEY (q)"),
    "unique": ("id INTEGER NOT NULL, q VARCHAR(20)", "UNIQUE (id)"),
    "nullable": ("id INTEGER, q VARCHAR(20)", "PRIMARY KEY (q)"),
}
_ALIKE = {"interval", "citext", "any case", "nocase", "rtrim", "char", "timetz", "set", "bit"}
"""Types whose equal values are shown in several ways: which one DISTINCT leaves is open."""
READABLE = {"real", "double", "integer", "bigint", "text", "varchar", "boolean", "year", "uuid"}


def kinds_of(engine):
    """The column types to draw from: not those that MariaDB sorts by their beginning alone."""
    return [kind for kind in TYPES[engine] if (engine, kind) not in UNSORTED]


class Drawn:
    """One table on a connection, its models, and what walks over it are held against."""

    def __init__(self, dice, connection, engine):
        self.dice, self.connection, self.engine = dice, connection, engine
        names = dice.sample("abc", dice.randint(1, 2))
        self.kinds = {name: dice.choice(kinds_of(engine)) for name in names}
        keys = [one for one in KEYS if one != "nullable" or engine == "sqlite"]
        self.key = dice.choice(keys)
        self.filled = {name for name in names if dice.random() < 0.3}

    def create(self):
        columns, key = KEYS[self.key]
        parts = [columns, "s INTEGER NOT NULL"]
        for name, kind in self.kinds.items():
            ddl = TYPES[self.engine][kind][0]
            filled = " NOT NULL" if name in self.filled and "NULL" not in ddl else ""
            parts.append(f"{name} {ddl}{filled}")
        parts += [key] if key else []
        self.connection.exec_driver_sql(f"CREATE TABLE wide ({', '.join(parts)})")
        self.connection.exec_driver_sql(
            "CREATE TABLE side (n INTEGER NOT NULL PRIMARY KEY, s INTEGER, word VARCHAR(20))"
        )
        for n in range(self.dice.randint(0, 4)):
            word = "NULL" if n % 3 == 2 else f"'{'ab'[n % 2]}'"
            self.connection.exec_driver_sql(f"INSERT INTO side VALUES ({n}, {n % 3}, {word})")
        self._fill()
        if self.dice.random() < 0.5:
            self._index()

    def _fill(self):
        rows = self.dice.choice([0, 1, 3, 12, 25, 40])
        ids = self.dice.sample(range(1, 200), rows)
        if self.engine == "mariadb":
            self.connection.exec_driver_sql("SET time_zone = '+00:00'")
        for i, at in enumerate(ids):
            names, values = ["id", "s"], [str(at), str(i % 3)]
            if self.key in ("two", "text", "unique", "nullable"):
                own = str(i % 4) if self.key == "two" else f"'{'xyZ'[i % 3]}{at}'"
                if self.key in ("unique", "nullable") and i % 4 == 1:
                    own = "NULL"
                names.append("q")
                values.append(own)
            for name, kind in self.kinds.items():
                literals = TYPES[self.engine][kind][1]
                empty = name not in self.filled and self.dice.random() < 0.2
                names.append(name)
                values.append("NULL" if empty else self.dice.choice(literals))
            self.connection.exec_driver_sql(
                f"INSERT INTO wide ({', '.join(names)}) VALUES ({', '.join(values)})"
            )

    def _index(self):
        names = [*self.kinds, "id"]
        if self.engine == "mariadb" and {"blob", "text"} & set(self.kinds.values()):
            return
        direction = self.dice.choice(["", " DESC"])
        listed = ", ".join(f"{name}{direction}" for name in names)
        lead = self.dice.choice(["", "s, "])
        self.connection.exec_driver_sql(f"CREATE INDEX wide_i ON wide ({lead}{listed})")

    def drop(self):
        self.connection.rollback()
        for name in ("wide", "side"):
            self.connection.exec_driver_sql(f"DROP TABLE IF EXISTS {name}")
        self.connection.commit()

    def tables(self):
        """The table reflected, or by a model that may say something else."""
        meta = MetaData()
        side = Table(
            "side",
            meta,
            Column("n", Integer, primary_key=True),
            Column("s", Integer),
            Column("word", String(20)),
        )
        if self.dice.random() < 0.5:
            return Table("wide", meta, autoload_with=self.connection), side
        keyed, own = self.key in ("id", "row id", "two"), self.key == "nullable"
        columns = [
            Column("id", Integer, primary_key=keyed, unique=self.key == "unique", nullable=own)
        ]
        if self.key in ("two", "text", "unique", "nullable"):
            kind = Integer() if self.key == "two" else String(20)
            primary = self.key in ("two", "text", "nullable")
            columns.append(
                Column("q", kind, primary_key=primary, nullable=self.key in ("unique", "nullable"))
            )
        columns.append(Column("s", Integer, nullable=False))
        for name, kind in self.kinds.items():
            model = self.dice.choice(TYPES[self.engine][kind][2])
            # A model may say NOT NULL of a column that holds NULLs, and the other way round.
            columns.append(Column(name, model, nullable=self.dice.random() < 0.6))
        return Table("wide", meta, *columns), side


def draw_select(drawn, t, side):
    """A select over the table: (kind, select, unique, names to order by, params, entity?)."""
    dice, names = drawn.dice, list(drawn.kinds)
    params = {}
    kinds = [
        "plain",
        "plain",
        "filter",
        "set",
        "outer",
        "other outer",
        "inner",
        "window",
        "limit",
        "union",
        "distinct",
        "group",
        "expression",
        "cte",
        "entity",
        "self join",
    ]
    if drawn.engine == "postgresql":
        kinds.append("distinct on")
    kind = dice.choice(kinds)
    shows = [t.c.id]
    if drawn.key != "unique" and "q" in t.c and dice.random() < 0.5:
        shows.append(t.c.q)
    if dice.random() < 0.3 and set(drawn.kinds.values()) <= READABLE:
        shows += [t.c[name] for name in names]
    base, unique = select(*shows), None
    if kind == "filter":
        base = base.where(t.c.s == bindparam("s"))
        params = {"s": dice.randint(0, 3)}
    elif kind == "set":
        base = base.where(t.c.s.in_(bindparam("s", expanding=True)))
        params = {"s": dice.sample(range(4), dice.randint(0, 3))}
    elif kind == "outer":
        base = base.add_columns(side.c.n, side.c.word).select_from(
            t.outerjoin(side, side.c.s == t.c.s)
        )
        names = [*names, "word"]
    elif kind == "other outer":
        base = select(side.c.n, *shows).select_from(side.outerjoin(t, side.c.s == t.c.s))
        names = [*names, "word"]
    elif kind == "inner":
        base = base.select_from(t.join(side, side.c.n == t.c.s))
        names = [*names, "word"]
    elif kind == "self join":
        other = t.alias("other") if dice.random() < 0.5 else t.alias()
        base = select(t.c.id, other.c.id.label("o")).select_from(t.join(other, other.c.s == t.c.s))
        names = [f"wide.{name}" for name in names]
    elif kind == "window":
        rank = func.row_number().over(order_by=(t.c.s, t.c.id)).label("rank")
        base = select(*_all(t, shows, names), rank)
        if dice.random() < 0.4:
            base = base.add_columns(side.c.word).select_from(t.outerjoin(side, side.c.n == t.c.s))
            names = [*names, "word"]
        names, unique = [*names, "rank"], ["id"]
    elif kind == "limit":
        base = select(*_all(t, shows, names)).order_by(t.c.id).limit(dice.randint(1, 30))
        unique = None if drawn.key != "nullable" else ["id"]
    elif kind == "union":
        parts = [
            select(*_all(t, [t.c.id], names), literal(i).label("half")).where(t.c.s >= i)
            for i in range(2)
        ]
        base, unique = union_all(*parts), ["id", "half"]
    elif kind == "distinct" and _ALIKE.intersection(drawn.kinds.values()):
        kind = "plain"
    elif kind == "distinct":
        base = select(*[t.c[name] for name in names], t.c.s).distinct()
    elif kind == "distinct on":
        base = distinct_on(select(*_all(t, [t.c.s, t.c.id], names)), t)
        unique = ["id"]
    elif kind == "group":
        base = select(func.min(t.c.id).label("m"), func.count().label("n")).group_by(t.c[names[0]])
        names = [names[0], "m", "n"]
    elif kind == "cte":
        base = select(select(*_all(t, shows, names)).where(t.c.s < 2).cte("part"))
        unique = ["id"]
    return kind, base, unique, names, params


def _all(t, shows, names):
    return list(dict.fromkeys([*shows, *(t.c[name] for name in names)]))


def distinct_on(statement, t):
    """DISTINCT ON as each release of SQLAlchemy writes it."""
    ordered = statement.order_by(t.c.s, t.c.id.desc())
    try:
        from sqlalchemy.dialects.postgresql import distinct_on as extension

        return ordered.ext(extension(t.c.s))
    except ImportError:
        return ordered.distinct(t.c.s)


def draw_order(drawn, kind, base, t, names):
    """An order as text, or as expressions."""
    dice = drawn.dice
    chosen = dice.sample(names, dice.randint(1, min(2, len(names))))
    if kind == "expression":
        name = chosen[0].rpartition(".")[2]
        column = t.c[name]
        made = [func.coalesce(column, column).desc(), t.c.s, func.abs(t.c.s - 1)]
        return [dice.choice(made), column.asc() if dice.random() < 0.5 else t.c.s.desc()]
    place = [":nulls-first", ":nulls-last", ""]
    return ",".join(dice.choice(["", "-"]) + name + dice.choice(place) for name in chosen)


def truth_of(listing, lender, base, params, engine):
    """The rows as one plain statement gives them, by the columns that the order names."""
    variant = listing.lent_variant(lender, None, params)
    described = listing.described
    statement = described.select.order_by(None)
    clauses = []
    for term, key in zip(variant.order.terms, variant.source.keys, strict=True):
        element = described.columns.get(term.name, key.element)  # a row id has no name of its own
        clause = element.desc() if term.descending else element.asc()
        if term.nulls is not None and engine == "mariadb":
            empty = element.is_(None)
            clauses.append(empty.desc() if term.nulls == "first" else empty.asc())
        elif term.nulls is not None:
            clause = clause.nulls_first() if term.nulls == "first" else clause.nulls_last()
        clauses.append(clause)
    found = lender.execute(statement.order_by(*clauses), params)
    return [shown(row) for row in found.all()]


class Refused(Exception):
    """What cannot be paged, and says so when it is opened."""


class Unreadable(Exception):
    """What the plain statement itself cannot read, by the model's types."""


def walk_once(drawn, t, side, mapped):
    """Draw a listing over the table and hold its walk against one statement."""
    dice = drawn.dice
    kind, base, unique, names, params = draw_select(drawn, t, side)
    if kind == "entity":
        base = select(mapped if dice.random() < 0.7 else aliased(mapped))
    order = draw_order(drawn, kind, base, t, names)
    size, strategy = dice.choice([1, 2, 3, 5, 7, 12]), dice.choice(STRATEGIES)
    shown_order = order if isinstance(order, str) else [str(one) for one in order]
    said = f"{drawn.kinds} key={drawn.key} {kind} order={shown_order} size={size} {strategy}"
    said += f" {[repr(t.c[name].type) for name in drawn.kinds]} {params}"

    def make():
        orders = order if isinstance(order, str) else [order]
        return Listing(
            base,
            orders=orders,
            sizes=Sizes(size),
            unique=unique,
            total="exact",
            strategy=strategy,
            secrets=[b"s" * 16],
        )

    with lent(drawn, kind) as lender:
        session = lender if hasattr(lender, "get_bind") else None
        try:
            twins = (make(), make())
            twins[0].lent_variant(lender if session is None else session, None, params)
        except (OrderError, ListingError) as error:
            raise Refused(f"{error.code}: {said}") from error
        try:
            with Session(drawn.connection) as reader:
                truth = truth_of(twins[0], reader, base, params, drawn.engine)
        except (SQLAlchemyError, LookupError, ValueError, TypeError) as error:
            raise Unreadable(f"{type(error).__name__} {str(error)[:40]}") from error
        compare(dice, twins, lender, truth, size, params, said)
    return kind


@contextmanager
def lent(drawn, kind):
    """A connection, or for entities one of what reads them."""
    if kind == "entity" and drawn.dice.random() < 0.5:
        with Session(drawn.connection) as session:
            yield session
    else:
        yield drawn.connection


def compare(dice, twins, lender, truth, size, params, said):
    """Walk by cursors that another process wrote; forward, backward or from an unaligned place."""

    def read(turn, at):
        listing = twins[turn % 2]
        listing.settings.book._known.clear()
        page = listing.read(lender, at, params=params)
        return page, [shown(row) for row in page]

    chunks = [truth[i : i + size] for i in range(0, len(truth), size)] or [[]]
    way = dice.choice(["next", "next", "prev", "offset", "walk"])
    if way == "walk":
        pages = twins[0].walk(lender, size=size, params=params)
        rows = [shown(row) for page in pages for row in page]
        assert rows == truth, f"walk {said}\n{rows}\n{truth}"
        return
    at, expected = (Spot.end() if way == "prev" else None), chunks
    if way == "prev":
        expected = chunks[::-1]
    elif way == "offset":
        start = dice.randint(0, len(truth))
        expected = [truth[i : i + size] for i in range(start, len(truth), size)] or [[]]
        at = Spot.offset(start)
    found = []
    for turn in range(len(expected) + 2):
        page, rows = read(turn, at)
        found.append(rows)
        at = page.prev if way == "prev" else page.next
        if at is None:
            break
    assert found == expected, f"{way} {said}\n{found}\n{expected}"
    if page.total.value != len(truth):
        raise AssertionError(f"total {page.total} for {len(truth)}: {said}")


def run_table(dice, connection, engine, walks, counts):
    """Draw a table and some walks over it; count what they were, refused ones too."""
    drawn = Drawn(dice, connection, engine)
    prepare(connection, engine)
    with warnings.catch_warnings():  # SQLAlchemy on types that it only half knows
        warnings.simplefilter("ignore")
        try:
            drawn.create()
            connection.commit()
            prepare(connection, engine)
            for _ in range(walks):
                t, side = drawn.tables()
                mapped = type("Mapped", (), {})
                mapper = registry()
                if t.primary_key.columns:
                    mapper.map_imperatively(mapped, t)
                else:
                    mapper.map_imperatively(mapped, t, primary_key=[t.c.id])
                try:
                    counts[walk_once(drawn, t, side, mapped)] += 1
                except Refused as refused:
                    counts["refused"] += 1
                    counts[f"refused {str(refused).partition(':')[0]}"] += 1
                except Unreadable as error:
                    counts["unreadable"] += 1
                    counts[f"unreadable {error}"] += 1
                    connection.rollback()
                    prepare(connection, engine)
                except DatabaseError as error:
                    if error.code != "row-unreadable":
                        raise
                    counts["unreadable"] += 1
                    connection.rollback()
                    prepare(connection, engine)
                finally:
                    mapper.dispose()
        finally:
            drawn.drop()


def prepare(connection, engine):
    """The session's clock has summer time where one can have it."""
    if engine == "mariadb":
        connection.exec_driver_sql(f"SET time_zone = '{summer_zone(connection)}'")
    elif engine == "postgresql":
        connection.exec_driver_sql(FIRST[engine][0])


def main(engine, tables, walks, seed=0):
    from servers import open_server

    counts, faults = Counter(), []
    with open_server(engine) as server, server.connect() as connection:
        for one in FIRST[engine]:
            connection.exec_driver_sql(one)
        connection.commit()
        for number in range(int(tables)):
            dice = random.Random(f"{seed} {number}")
            try:
                run_table(dice, connection, engine, int(walks), counts)
            except (AssertionError, VrelkoError, Exception) as error:
                faults.append((number, f"{type(error).__name__}: {error}"))
                print(number, type(error).__name__, str(error)[:1500], flush=True)
                connection.rollback()
    total = sum(n for name, n in counts.items() if " " not in name or name in TYPES)
    print(engine, "tables", tables, "walks", total, "faults", len(faults), dict(counts))


if __name__ == "__main__":
    main(*sys.argv[1:])
