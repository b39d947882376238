"""Tables, selects, orders and strategies drawn at random, each walk held equal to one statement.

`python tests/drawn.py ENGINE TABLES LISTINGS [SEED]` runs many of them, as the property test runs
a few, and prints what it found: each listing is walked WALKS times. Tables stand in one place, in
two that one process serves, behind row security, or change while they are read.
"""

from __future__ import annotations

import random
import sys
import warnings
from collections import Counter
from collections.abc import Callable
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from functools import partial
from typing import Any
from unittest import mock

from sqlalchemy import (
    Column,
    Connection,
    Engine,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    func,
    literal,
    select,
    type_coerce,
    union_all,
)
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session, aliased, registry
from sqlalchemy.types import NullType

from exposed import Listing
from stored import DRAWN, FIRST, summer_zone
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError, ListingError, OrderError
from vrelko.serving.variants import store
from walks import shown

STRATEGIES = ("keyset", "offset", "two-ended", "deferred-join")
WALKS = 5
KEYS = {
    "id": ("id INTEGER NOT NULL", "PRIMARY KEY (id)"),
    "row id": ("id INTEGER PRIMARY KEY", ""),
    "two": ("id INTEGER NOT NULL, q INTEGER NOT NULL", "PRIMARY KEY (q, id)"),
    "text": ("id INTEGER NOT NULL, q VARCHAR(20) NOT NULL", "PRIMARY KEY (q)"),
    "unique": ("id INTEGER NOT NULL, q VARCHAR(20)", "UNIQUE (id)"),
    "nullable": ("id INTEGER, q VARCHAR(20)", "PRIMARY KEY (q)"),
    "descending": ("id INTEGER PRIMARY KEY DESC", ""),
    "int": ("id INT", "PRIMARY KEY (id)"),
}
_SQLITE_KEYS = ("nullable", "descending", "int")
_ALIKE = {"interval", "citext", "any case", "nocase", "rtrim", "char", "timetz", "set", "bit",
          "levels", "cased", "accents", "pair"}  # fmt: skip
"""Types whose equal values are shown in several ways: which one DISTINCT leaves is open."""
READABLE = {"real", "double", "integer", "bigint", "text", "varchar", "boolean", "year", "uuid"}
SESSIONS = {
    "postgresql": [
        (),
        ("SET extra_float_digits = 0",),
        ("SET DateStyle = 'German, DMY'",),
        ("SET DateStyle = 'SQL, MDY'", "SET IntervalStyle = 'postgres_verbose'"),
        ("SET IntervalStyle = 'iso_8601'", "SET bytea_output = 'escape'"),
        ("SET TIME ZONE 'Asia/Kolkata'", "SET transform_null_equals = on"),
        ("SET enable_indexscan = off", "SET enable_bitmapscan = off", "SET jit = off"),
        ("SET enable_seqscan = off", "SET enable_sort = off", "SET jit = off"),
        ("SET plan_cache_mode = force_generic_plan",),
    ],
    "mariadb": [
        (),
        ("SET max_sort_length = 512",),
        ("SET max_sort_length = 8192", "SET sql_auto_is_null = 1"),
        ("SET sql_mode = ''", "SET time_zone = '+05:30'"),
        ("SET collation_connection = 'utf8mb4_general_ci'",),
        ("SET optimizer_switch = 'derived_merge=off,mrr=on,mrr_sort_keys=on'",),
    ],
    "sqlite": [
        (),
        ("PRAGMA reverse_unordered_selects = ON",),
        ("PRAGMA case_sensitive_like = ON", "PRAGMA automatic_index = OFF"),
    ],
}
_RESET = {
    "postgresql": ("RESET ALL",),
    "mariadb": (
        "SET max_sort_length = DEFAULT, sql_auto_is_null = DEFAULT, sql_mode = DEFAULT",
        "SET collation_connection = 'utf8mb4_general_ci', optimizer_switch = DEFAULT",
    ),
    "sqlite": ("PRAGMA reverse_unordered_selects = OFF", "PRAGMA case_sensitive_like = OFF"),
}


class DrawnTable:
    """A table (or a view over one or two) of drawn columns, key, index and rows."""

    def __init__(
        self, dice: random.Random, engine: str, like: DrawnTable | None = None, plain: bool = False
    ) -> None:
        """`like`: with the same columns, of which others may hold NULL; `plain`: no view."""
        self.dice, self.engine, self.walks = dice, engine, WALKS
        names = dice.sample("abc", dice.randint(1, 2))
        keys = [key for key in KEYS if key not in _SQLITE_KEYS or engine == "sqlite"]
        self.kinds = like.kinds if like else {n: dice.choice(list(DRAWN[engine])) for n in names}
        self.key = like.key if like else dice.choice(keys)
        self.filled = {name for name in self.kinds if dice.random() < 0.3}
        self.shape = dice.choice(["table", "table", "table", "view", "union"])
        if plain or self.key == "nullable":  # several rows whose key is NULL: a view has no row id
            self.shape = "table"
        self.mixed = engine == "sqlite" and self.shape == "union" and dice.random() < 0.5
        """Whether a view's column may come from columns of several affinities."""
        self._halves: list[str] = []
        self._extra = 0

    def create(self, connection: Connection, prefix: str) -> None:
        run = connection.exec_driver_sql
        halves = {"table": ["wide"], "view": ["wide_rows"], "union": ["wide_rows", "wide_more"]}
        self._halves = [prefix + name for name in halves[self.shape]]
        for i, name in enumerate(self._halves):
            run(f"CREATE TABLE {name} ({self._columns(other=i == 1)})")
        word = "VARCHAR(20)"
        run(f"CREATE TABLE {prefix}side (n INTEGER NOT NULL PRIMARY KEY, s INTEGER, word {word})")
        for n in range(self.dice.randint(0, 4)):
            word = "NULL" if n % 3 == 2 else f"'{'ab'[n % 2]}'"
            run(f"INSERT INTO {prefix}side VALUES ({n}, {n % 3}, {word})")
        if self.engine == "mariadb":
            run("SET time_zone = '+00:00'")
        self.insert(connection, self.dice.choice([0, 1, 3, 12, 25, 40]))
        if self.shape != "table":
            parts = " UNION ALL ".join(f"SELECT * FROM {name}" for name in self._halves)
            run(f"CREATE VIEW {prefix}wide AS {parts}")
        if self.dice.random() < 0.5:
            self._index(connection, prefix)

    def _columns(self, other: bool = False) -> str:
        columns, key = KEYS[self.key]
        parts = [columns, "s INTEGER NOT NULL"]
        for name, kind in self.kinds.items():
            if other and self.mixed:
                kind = self.dice.choice([kind, "text", "integer", "none", "numeric"])
            ddl = DRAWN[self.engine][kind][0]
            filled = " NOT NULL" if name in self.filled and "NULL" not in ddl else ""
            parts.append(f"{name} {ddl}{filled}")
        return ", ".join(parts + ([key] if key else []))

    def insert(self, connection: Connection, rows: int) -> None:
        """Insert rows with ids that no other row has."""
        self._extra += 1
        free = range(200 * self._extra - 199, 200 * self._extra)
        for i, at in enumerate(self.dice.sample(free, rows)):
            names, values = ["id", "s"], [str(at), str(i % 3)]
            if "q " in KEYS[self.key][0]:
                own = str(i % 4) if self.key == "two" else f"'{'xyZ'[i % 3]}{at}'"
                if self.key in ("unique", "nullable") and i % 4 == 1:
                    own = "NULL"
                names.append("q")
                values.append(own)
            for name, kind in self.kinds.items():
                empty = name not in self.filled and self.dice.random() < 0.2
                names.append(name)
                values.append("NULL" if empty else self.dice.choice(DRAWN[self.engine][kind][1]))
            half = self.dice.choice(self._halves)
            connection.exec_driver_sql(
                f"INSERT INTO {half} ({', '.join(names)}) VALUES ({', '.join(values)})"
            )

    def _index(self, connection: Connection, prefix: str) -> None:
        if self.engine == "mariadb" and {"blob", "text"} & set(self.kinds.values()):
            return
        direction, lead = self.dice.choice(["", " DESC"]), self.dice.choice(["", "s, "])
        listed = ", ".join(f"{name}{direction}" for name in [*self.kinds, "id"])
        table = self._halves[0]
        if self.engine == "sqlite":  # whose index is named with its file, and the table without
            table = table.removeprefix(prefix)
            connection.exec_driver_sql(f"CREATE INDEX {prefix}wide_i ON {table} ({lead}{listed})")
        else:
            connection.exec_driver_sql(f"CREATE INDEX wide_i ON {table} ({lead}{listed})")

    def change(self, connection: Connection) -> None:
        """Change the definition, and add rows that it allows now; those that were there stay."""
        run = connection.exec_driver_sql
        if self.engine == "mariadb":
            run("SET time_zone = '+00:00'")
        filled = {name for name in self.filled if self.dice.random() < 0.3}
        if self.engine == "sqlite" or self.dice.random() < 0.5:  # by another table of this name
            self.filled = filled
            run(f"CREATE TABLE wide_next ({self._columns()})")
            run("INSERT INTO wide_next SELECT * FROM wide")
            run("ALTER TABLE wide RENAME TO wide_old")
            run("ALTER TABLE wide_next RENAME TO wide")
            run("DROP TABLE wide_old")
        else:
            for name in self.filled - filled:
                ddl = DRAWN[self.engine][self.kinds[name]][0]
                if self.engine == "postgresql":
                    run(f"ALTER TABLE wide ALTER {name} DROP NOT NULL")
                elif "NULL" not in ddl:
                    run(f"ALTER TABLE wide MODIFY {name} {ddl} NULL")
            self.filled = filled
        self.insert(connection, self.dice.randint(0, 6))

    def drop(self, connection: Connection, prefix: str) -> None:
        connection.rollback()
        if self.shape != "table":
            connection.exec_driver_sql(f"DROP VIEW IF EXISTS {prefix}wide")
        names = [*self._halves, f"{prefix}side"]
        for name in names + ["wide_next", "wide_old"] * (not prefix and self.shape == "table"):
            connection.exec_driver_sql(f"DROP TABLE IF EXISTS {name}")
        connection.commit()

    @property
    def identity(self) -> list[str]:
        """The columns that tell rows of a reflected view apart."""
        return ["q", "id"] if self.key == "two" else ["id"]

    def models(self, connection: Connection) -> tuple[Table, Table]:
        """The table reflected, or by a model that may say something else; and the one beside it."""
        meta = MetaData()
        side = Table(
            "side",
            meta,
            Column("n", Integer, primary_key=True),
            Column("s", Integer),
            Column("word", String(20)),
        )
        if self.dice.random() < 0.5:
            return Table("wide", meta, autoload_with=connection), side
        keyed = "q" not in KEYS[self.key][1] or self.key == "two"
        unique = self.key == "unique"
        key = Column("id", Integer, primary_key=keyed and not unique, unique=unique)
        key.nullable = self.key in _SQLITE_KEYS
        columns = [key]
        if "q " in KEYS[self.key][0]:
            kind = Integer() if self.key == "two" else String(20)
            nullable = self.key in ("unique", "nullable")
            columns.append(Column("q", kind, primary_key=not unique, nullable=nullable))
        columns.append(Column("s", Integer, nullable=False))
        for name, kind in self.kinds.items():
            model = self.dice.choice(DRAWN[self.engine][kind][2])
            # A model may say NOT NULL of a column that holds NULLs, and the other way round.
            columns.append(Column(name, model, nullable=self.dice.random() < 0.6))
        return Table("wide", meta, *columns), side


@dataclass
class Place:
    """Where a table is read: a connection, and what it runs ahead to look there."""

    connection: Connection
    enter: Callable[[], Any]
    session: tuple[str, ...] = ()
    mixed: bool = False


@dataclass
class Drawn:
    """A select over drawn tables, with what a listing of it needs."""

    kind: str
    select: Any
    order: Any
    unique: list[str] | None
    params: dict[str, Any]


_SELECTS = ["plain", "plain", "filter", "set", "outer", "other outer", "inner", "window", "limit",
            "union", "distinct", "group", "expression", "cte", "entity", "self join"]  # fmt: skip
_JOINS = ("outer", "other outer", "inner", "self join", "window")
_ROWS_ALONE = ["plain", "filter", "set", "entity"]
"""Selects whose rows are those of the table, so that they can be told apart after a change."""


def draw_select(
    table: DrawnTable, t: Table, side: Table, mapped: type, kinds: list[str], mixed: bool
) -> Drawn:
    """Draw a select over the table, and an order for it; `mixed`: see DrawnTable."""
    dice, names, params = table.dice, list(table.kinds), {}
    kind = dice.choice(kinds)
    unique = None if t.primary_key.columns or table.shape == "table" else table.identity
    shows = [t.c.id]
    if table.key != "unique" and "q" in t.c and (unique or dice.random() < 0.5):
        shows.append(t.c.q)
    if dice.random() < 0.3 and set(table.kinds.values()) <= READABLE:
        shows += [t.c[name] for name in names]
    base = select(*shows)
    if kind == "distinct" and _ALIKE.intersection(table.kinds.values()):
        kind = "plain"
    if kind == "entity" and table.key == "nullable":  # SQLAlchemy has no entity without a key
        kind = "plain"
    if kind == "expression" and any(_compares(t.c[name].type) for name in names):
        kind = "plain"
    if kind in _JOINS and mixed:  # which SQLite itself does not sort and compare alike
        kind = "plain"
    if kind == "filter":
        base = base.where(t.c.s == bindparam("s"))
        params = {"s": dice.randint(0, 3)}
    elif kind == "set":
        base = base.where(t.c.s.in_(bindparam("s", expanding=True)))
        params = {"s": dice.sample(range(4), dice.randint(0, 3))}
    elif kind == "outer":
        base = base.add_columns(side.c.n, side.c.word)
        base = base.select_from(t.outerjoin(side, side.c.s == t.c.s))
        names = [*names, "word"]
        unique = unique and [*unique, "n"]
    elif kind == "other outer":
        base = select(side.c.n, *shows).select_from(side.outerjoin(t, side.c.s == t.c.s))
        names = [*names, "word"]
        unique = unique and [*unique, "n"]
    elif kind == "inner":
        base = base.select_from(t.join(side, side.c.n == t.c.s))
        names = [*names, "word"]
    elif kind == "self join":
        other = t.alias("other") if dice.random() < 0.5 else t.alias()
        base = select(t.c.id, other.c.id.label("o")).select_from(t.join(other, other.c.s == t.c.s))
        names = [f"wide.{name}" for name in names]
        if unique and table.key == "two":
            base = base.add_columns(t.c.q, other.c.q.label("p"))
        unique = unique and (["id", "o", "q", "p"] if table.key == "two" else ["id", "o"])
    elif kind == "window":
        rank = func.row_number().over(order_by=(t.c.s, t.c.id)).label("rank")
        base = select(*_all(t, shows, names), rank)
        if dice.random() < 0.4:
            base = base.add_columns(side.c.word).select_from(t.outerjoin(side, side.c.n == t.c.s))
            names = [*names, "word"]
        names, unique = [*names, "rank"], ["id"]
    elif kind == "limit":
        base = select(*_all(t, shows, names)).order_by(t.c.id).limit(dice.randint(1, 30))
        unique = ["id"] if table.key in _SQLITE_KEYS else unique
    elif kind == "union":
        parts = [
            select(*_all(t, [t.c.id], names), literal(i).label("half")).where(t.c.s >= i)
            for i in range(2)
        ]
        base, unique = union_all(*parts), ["id", "half"]
    elif kind == "distinct":
        base, unique = select(*[t.c[name] for name in names], t.c.s).distinct(), None
    elif kind == "distinct on":
        base = distinct_on(select(*_all(t, [t.c.s, t.c.id], names)), t)
        unique = ["id"]
    elif kind == "group":
        base = select(func.min(t.c.id).label("m"), func.count().label("n")).group_by(t.c[names[0]])
        names, unique = [names[0], "m", "n"], None
    elif kind == "cte":
        base = select(select(*_all(t, shows, names)).where(t.c.s < 2).cte("part"))
        unique = ["id"]
    elif kind == "entity":
        base = select(mapped if dice.random() < 0.7 else aliased(mapped))
    return Drawn(kind, base, draw_order(dice, kind, t, names), unique, params)


def _compares(kind: Any) -> bool:
    return "comparator_factory" in vars(type(kind))


def _all(t: Table, shows: list[Any], names: list[str]) -> list[Any]:
    return list(dict.fromkeys([*shows, *(t.c[name] for name in names)]))


def distinct_on(statement: Any, t: Table) -> Any:
    """DISTINCT ON as each release of SQLAlchemy writes it."""
    ordered = statement.order_by(t.c.s, t.c.id.desc())
    try:
        from sqlalchemy.dialects.postgresql import distinct_on as extension

        return ordered.ext(extension(t.c.s))
    except ImportError:
        return ordered.distinct(t.c.s)


def draw_order(dice: random.Random, kind: str, t: Table, names: list[str]) -> Any:
    """Draw an order as text, or as expressions."""
    chosen = dice.sample(names, dice.randint(1, min(2, len(names))))
    if kind == "expression":
        column = t.c[chosen[0].rpartition(".")[2]]
        made = [func.coalesce(column, column).desc(), t.c.s, func.abs(t.c.s - 1)]
        return [dice.choice(made), column.asc() if dice.random() < 0.5 else t.c.s.desc()]
    place = [":nulls-first", ":nulls-last", ""]
    return ",".join(dice.choice(["", "-"]) + name + dice.choice(place) for name in chosen)


def truth_of(listing: Listing, drawn: Drawn, place: Place, engine: str) -> list[Any]:
    """The rows as one plain statement gives them, by the columns that the order names."""
    place.enter()
    with Session(place.connection) as lender:
        variant = listing.lent_variant(lender, None, drawn.params)
        described, clauses = listing.described, []
        for term, key in zip(variant.order.terms, variant.source.keys, strict=True):
            element = described.columns.get(term.name, key.element)  # a row id has no name
            # MariaDB sorts long columns by fewer levels than it compares: test_mariadb_texts.py.
            element = key.element if str(key.element).startswith("left(") else element
            # Not by a comparator of the model's, which may sort otherwise than the database.
            element = type_coerce(element, NullType()) if _compares(element.type) else element
            clause = element.desc() if term.descending else element.asc()
            if term.nulls is not None and engine == "mariadb":
                empty = element.is_(None)
                clauses.append(empty.desc() if term.nulls == "first" else empty.asc())
            elif term.nulls is not None:
                clause = clause.nulls_first() if term.nulls == "first" else clause.nulls_last()
            clauses.append(clause)
        statement = described.select.order_by(None).order_by(*clauses)
        return [shown(row) for row in lender.execute(statement, drawn.params).all()]


UNREADABLE = (
    SQLAlchemyError,
    LookupError,
    ValueError,
    TypeError,
    NotImplementedError,
    AttributeError,
)
"""What types of the model, and drivers, raise for values that they do not know."""


class Refused(Exception):
    """What cannot be paged, and says so when it is opened."""


class Unreadable(Exception):
    """What the plain statement itself cannot read, by the model's types."""


def walk_listing(
    table: DrawnTable, places: list[Place], model: tuple[Table, Table], mapped: type, changes: bool
) -> str:
    """Draw a listing over the table and hold its walks against one statement in each place."""
    dice, kinds = table.dice, [*_SELECTS]
    if table.engine == "postgresql":
        kinds.append("distinct on")
    mixed = any(place.mixed for place in places)
    drawn = draw_select(table, *model, mapped, _ROWS_ALONE if changes else kinds, mixed)
    size = dice.choice([1, 2, 3, 5, 7, 12])
    strategy = "keyset" if changes else dice.choice(STRATEGIES)
    order = drawn.order if isinstance(drawn.order, str) else [str(one) for one in drawn.order]
    said = f"{table.kinds} key={table.key} {table.shape} {drawn.kind} order={order} size={size} "
    types = [repr(model[0].c[name].type) for name in table.kinds]
    said += f"{places[0].session} {strategy} {types} {drawn.params}"

    def make() -> Listing:
        return Listing(
            drawn.select,
            orders=drawn.order if isinstance(drawn.order, str) else [drawn.order],
            sizes=Sizes(size),
            unique=drawn.unique,
            total="exact",
            strategy=strategy,
            secrets=[b"s" * 16],
        )

    try:
        twins = [make(), make()]
        for place in places:
            place.enter()
            with lent(place, drawn.kind, dice) as lender:
                twins[0].lent_variant(lender, None, drawn.params)
    except (OrderError, ListingError) as error:
        raise Refused(f"{error.code}: {said}") from error
    try:
        truths = [truth_of(make(), drawn, place, table.engine) for place in places]
    except UNREADABLE as error:
        raise Unreadable(f"{type(error).__name__} {str(error)[:40]}") from error
    walks = [Walks(dice, twins, place, truth, drawn, said)
             for place, truth in zip(places, truths, strict=True)]  # fmt: skip
    if changes:
        truth = partial(truth_of, make(), drawn, places[0], table.engine)
        walks[0].through_a_change(size, lambda: table.change(places[0].connection), truth)
        return drawn.kind
    for _ in range(table.walks):
        size, way = dice.choice([1, 2, 3, 5, 7, 12]), dice.choice(["next", "next", "prev",
                                                                   "offset", "walk"])  # fmt: skip
        # Pages of all places in turns: what is known of one must not be taken for another's.
        open_ = [walk.steps(way, size) for walk in walks]
        while open_:
            turn = dice.randrange(len(open_))
            if next(open_[turn], None) is None:
                del open_[turn]
    return drawn.kind


@contextmanager
def lent(place: Place, kind: str, dice: random.Random) -> Any:
    """A connection, or for entities one of what reads them."""
    if kind == "entity" and dice.random() < 0.5:
        with Session(place.connection) as session:
            yield session
    else:
        yield place.connection


@dataclass
class Walks:
    """Walks in one place by two listings alike, as two processes hold them."""

    dice: random.Random
    twins: list[Listing]
    place: Place
    truth: list[Any]
    drawn: Drawn
    said: str

    def read(self, turn: int, at: Any, size: int) -> tuple[Any, list[Any]]:
        """Read a page by the listing whose turn it is."""
        self.place.enter()
        listing = self.twins[turn % 2]
        listing.settings.book._known.clear()
        with lent(self.place, self.drawn.kind, self.dice) as lender:
            page = listing.read(lender, at, params=self.drawn.params, size=size)
            return page, [shown(row) for row in page]

    def steps(self, way: str, size: int) -> Any:
        """Walk forward, backward or from an unaligned place; yields after each page."""
        truth = self.truth
        if way == "walk":
            self.place.enter()
            pages = self.twins[0].walk(self.place.connection, size=size, params=self.drawn.params)
            rows = [shown(row) for page in pages for row in page]
            assert rows == truth, f"walk by {size}: {self.said}\n{rows}\n{truth}"
            return
        start = self.dice.randint(0, len(truth)) if way == "offset" else 0
        chunks = [truth[i : i + size] for i in range(start, len(truth), size)] or [[]]
        at = {"next": None, "prev": Spot.end(), "offset": Spot.offset(start)}[way]
        for turn, chunk in enumerate(chunks[::-1] if way == "prev" else chunks):
            page, rows = self.read(turn, at, size)
            message = f"page {turn + 1} of {way} by {size}: {self.said}\n{rows}\n{chunk}\n{truth}"
            assert rows == chunk, message
            assert page.total.value == len(truth), f"total {page.total}: {message}"
            at = page.prev if way == "prev" else page.next
            last = turn == len(chunks) - 1
            assert (at is None) == last, f"link {at is not None}: {message}"
            if not last:
                yield turn

    def through_a_change(self, size: int, change: Any, truth_now: Any) -> None:
        """Walk while the definition changes: rows behind the place it happens at come as ever."""
        stop, at, rows, seen = self.dice.randint(1, 4), None, [], []
        for turn in range(stop):
            page, rows = self.read(turn, at, size)
            seen += rows
            at = page.next
            if at is None:
                break
        self.place.enter()
        change()
        self.place.connection.commit()
        # MariaDB tells at once that a column may hold NULL; elsewhere it is found after some time.
        with mock.patch.object(store, "RECHECK_S", -1.0):
            self._rest_of(stop, at, seen, size, truth_now)

    def _rest_of(self, turn: int, at: Any, seen: list[Any], size: int, truth_now: Any) -> None:
        self.truth = truth_now()
        message = f"changed behind {seen}: {self.said}\n{self.truth}"
        assert set(seen) <= set(self.truth), message
        rest = self.truth[self.truth.index(seen[-1]) + 1 :] if seen else []
        come: list[Any] = []
        while at is not None:
            page, rows = self.read(turn, at, size)
            come += rows
            at, turn = page.next, turn + 1
            assert turn < 300, message
        assert not come or come == rest, f"{come}\n{message}"
        for _ in self.steps("next", size):
            pass


@contextmanager
def places_of(mode: str, server: Engine, dice: random.Random, table: DrawnTable) -> Any:
    """Make the table, and one like it where there are two places; lend the places."""
    engine = table.engine
    with ExitStack() as held:
        first = held.enter_context(server.connect())
        made = [(table, first, "", lambda: None)]
        if mode in ("databases", "schemas", "translated"):
            like = DrawnTable(dice, engine, table)
            made = _two_places(mode, server, held, table, like, first)
        places = []
        for one, connection, prefix, enter in made:
            enter()
            held.callback(_leave, one, connection, prefix, enter)
            one.create(connection, prefix)
            connection.commit()
            places.append(Place(connection, enter, mixed=one.mixed))
        if mode == "translated":
            held.enter_context(_translated(server, places[1], made[1][2][:-1]))
        if mode == "tenants":
            places = held.enter_context(_tenants(server, first))
        settings = dice.choice(SESSIONS[engine])
        for place in places:
            place.session = settings
            prepare(place.connection, engine)
            for statement in settings:
                place.connection.exec_driver_sql(statement)
            place.connection.commit()
        yield places


def _leave(table: DrawnTable, connection: Connection, prefix: str, enter: Any) -> None:
    connection.rollback()
    for statement in _RESET[table.engine]:
        connection.exec_driver_sql(statement)
    enter()
    connection.commit()
    table.drop(connection, prefix)


def _two_places(
    mode: str, server: Engine, held: ExitStack, table: DrawnTable, like: DrawnTable, first: Any
) -> list[Any]:
    here, other = _names(server)
    if mode == "translated":
        return [(table, first, "", lambda: None), (like, first, f"{other}.", lambda: None)]
    if table.engine == "sqlite":  # a file of its own
        beside = create_engine("sqlite://")
        held.callback(beside.dispose)
        return [(table, first, "", lambda: None),
                (like, held.enter_context(beside.connect()), "", lambda: None)]  # fmt: skip
    second = first if mode == "schemas" else held.enter_context(server.connect())
    use = "SET search_path TO {}, public" if table.engine == "postgresql" else "USE {}"

    def enter(connection: Connection, name: str) -> None:
        connection.exec_driver_sql(use.format(name))

    for connection in {first, second}:  # they go back to the pool
        held.callback(_run_alone, connection, use.format(here))
    return [(table, first, "", partial(enter, first, here)),
            (like, second, "", partial(enter, second, other))]  # fmt: skip


def _run_alone(connection: Connection, statement: str) -> None:
    connection.rollback()
    connection.exec_driver_sql(statement)
    connection.commit()


def _names(server: Engine) -> tuple[str, str]:
    """The schemas of the two places, as the engine's statements call them."""
    database = str(server.url.database)
    return {
        "postgresql": ("public", "elsewhere"),
        "sqlite": ("main", "elsewhere"),
    }.get(server.dialect.name, (database, f"{database}_b"))


@contextmanager
def _translated(server: Engine, place: Place, schema: str) -> Any:
    engine = server.execution_options(schema_translate_map={None: schema})
    with engine.connect() as connection:
        place.connection = connection
        yield


@contextmanager
def _tenants(server: Engine, owner: Connection) -> Any:
    """Two connections of a role that sees a third of the rows each."""
    role = f"{server.url.database}_reader"
    for statement in (
        f"DO $$ BEGIN CREATE ROLE {role}; EXCEPTION WHEN duplicate_object THEN NULL; END $$",
        f"GRANT SELECT ON wide, side TO {role}",
        "ALTER TABLE wide ENABLE ROW LEVEL SECURITY",
        "CREATE POLICY own ON wide USING (s = current_setting('own.third')::int)",
    ):
        owner.exec_driver_sql(statement)
    owner.commit()
    with server.connect() as one, server.connect() as other:
        for third, connection in enumerate((one, other)):
            connection.exec_driver_sql(f"SET own.third = {third}")
            connection.exec_driver_sql(f"SET ROLE {role}")
            connection.commit()
        try:
            yield [Place(one, lambda: None), Place(other, lambda: None)]
        finally:
            for connection in (one, other):
                connection.rollback()
                connection.exec_driver_sql("RESET ALL")
                connection.exec_driver_sql("RESET ROLE")
                connection.commit()


def run_table(
    dice: random.Random, server: Engine, listings: int, counts: Counter[str], walks: int = WALKS
) -> None:
    """Draw a table and walks of some listings over it; count what they were, refused ones too."""
    engine = server.dialect.name.replace("mysql", "mariadb")
    modes = ["one"] * 4 + ["databases", "schemas", "translated", "changes"]
    modes += ["tenants"] if engine == "postgresql" else []
    mode = dice.choice(modes)
    table = DrawnTable(dice, engine, plain=mode in ("changes", "tenants"))
    table.walks = walks
    counts[f"places {mode}"] += 1
    with warnings.catch_warnings(), places_of(mode, server, dice, table) as places:
        warnings.simplefilter("ignore")  # SQLAlchemy on types that it only half knows
        for _ in range(listings):
            places[0].enter()
            t, side = table.models(places[0].connection)
            mapped, mapper = type("Mapped", (), {}), registry()
            keyed = {} if t.primary_key.columns else {"primary_key": [t.c[n] for n in
                                                                      table.identity]}  # fmt: skip
            mapper.map_imperatively(mapped, t, **keyed)
            try:
                kind = walk_listing(table, places, (t, side), mapped, mode == "changes")
                counts[kind] += 1 if mode == "changes" else table.walks * len(places)
            except Refused as refused:
                counts["refused"] += table.walks * len(places)
                counts[f"refused {str(refused).partition(':')[0]}"] += 1
            except Unreadable as error:
                counts["unreadable"] += 1
                counts[f"unreadable {error}"] += 1
            except DatabaseError as error:
                if error.code != "row-unreadable":
                    raise
                counts["unreadable"] += 1
            finally:
                mapper.dispose()
            for place in places:
                place.connection.rollback()
                prepare(place.connection, engine)


def prepare(connection: Connection, engine: str) -> None:
    """The session's clock has summer time where one can have it."""
    if engine == "mariadb":
        connection.exec_driver_sql(f"SET time_zone = '{summer_zone(connection)}'")
    elif engine == "postgresql":
        connection.exec_driver_sql(FIRST[engine][0])


@contextmanager
def ready(server: Engine) -> Any:
    """Make what the drawn types need, and the second place."""
    engine = server.dialect.name.replace("mysql", "mariadb")
    other = _names(server)[1]
    make = {"postgresql": f"CREATE SCHEMA IF NOT EXISTS {other}",
            "mariadb": f"CREATE DATABASE IF NOT EXISTS {other} "
                       "CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
            "sqlite": f"ATTACH ':memory:' AS {other}"}  # fmt: skip
    end = {"postgresql": f"DROP SCHEMA {other} CASCADE", "mariadb": f"DROP DATABASE {other}",
           "sqlite": f"DETACH {other}"}  # fmt: skip
    with server.connect() as connection:
        for statement in [*FIRST[engine], make[engine]]:
            connection.exec_driver_sql(statement)
        connection.commit()
    yield
    with server.connect() as connection:
        connection.exec_driver_sql(end[engine])
        role = f"{server.url.database}_reader"
        if (
            engine == "postgresql"
            and connection.exec_driver_sql(
                f"SELECT 1 FROM pg_roles WHERE rolname = '{role}'"
            ).scalar()
        ):
            connection.exec_driver_sql(f"DROP OWNED BY {role}")
            connection.exec_driver_sql(f"DROP ROLE {role}")
        connection.commit()


def main(engine: str, tables: str, listings: str, seed: str = "0", alone: str = "") -> None:
    """Draw many tables, and print what was found; or the one table of that number `alone`."""
    numbers = [int(alone)] if alone else range(int(tables))
    counts = run_tables(engine, seed, numbers, int(listings))
    print(engine, "tables", len(numbers), "walks", walks_in(counts), dict(counts))


def run_tables(
    engine: str, seed: str, numbers: Any, listings: int, walks: int = WALKS
) -> Counter[str]:
    """Draw the tables of these numbers; print each fault, and return what was counted."""
    from servers import open_server

    counts: Counter[str] = Counter()
    with open_server(engine) as server, ready(server):
        for number in numbers:
            before = counts.copy()
            try:
                run_table(random.Random(f"{seed} {number}"), server, listings, counts, walks)
            except Exception as error:
                counts["faults"] += 1
                mode = next((name for name in counts - before if name.startswith("places")), "")
                message = f"{type(error).__name__} {str(error)[:1500]}"
                print(engine, seed, number, mode, message, flush=True)
    return counts


def walks_in(counts: Counter[str]) -> int:
    """Return how many walks there were, without those refused."""
    return sum(n for name, n in counts.items() if name in {*_SELECTS, "distinct on"})


if __name__ == "__main__":
    main(*sys.argv[1:])
