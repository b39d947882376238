"""Column types as databases have them: DDL, values that are hard to bind again, models for them."""

import enum
import re
import uuid
from pathlib import Path

from sqlalchemy import (
    CHAR,
    BigInteger,
    Boolean,
    Column,
    Date,
    DateTime,
    Double,
    Enum,
    Float,
    Integer,
    Interval,
    LargeBinary,
    MetaData,
    Numeric,
    String,
    Table,
    Time,
    TypeDecorator,
    Uuid,
    select,
)
from sqlalchemy.dialects import mysql, postgresql
from sqlalchemy.types import REAL, NullType

from converting import Compared, Later, Lowered, Mail, Negated, OwnText, Shifted, Shouted
from exposed import Listing
from vrelko.errors import OrderError


def decorated(impl):
    class Decorated(TypeDecorator):
        cache_ok = True

    Decorated.impl = impl
    return Decorated()


class Guid(TypeDecorator):
    """The recipe: PostgreSQL's own type there, CHAR(32) elsewhere."""

    impl = CHAR
    cache_ok = True

    def load_dialect_impl(self, dialect):
        own = dialect.name == "postgresql"
        return dialect.type_descriptor(postgresql.UUID() if own else CHAR(32))

    def process_bind_param(self, value, dialect):
        if value is None or dialect.name == "postgresql":
            return None if value is None else str(value)
        return uuid.UUID(str(value)).hex

    def process_result_value(self, value, dialect):
        return None if value is None else uuid.UUID(str(value))


class Zoned(TypeDecorator):
    """The recipe: moments with a zone, kept as UTC without one."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value, dialect):
        return None if value is None else value.replace(tzinfo=None)

    def process_result_value(self, value, dialect):
        from datetime import UTC

        return None if value is None else value.replace(tzinfo=UTC)


class Colour(enum.Enum):
    red = "red"
    blue = "blue"
    amber = "amber"


FLOATS = [
    "0.1",
    "0.3",
    "-0.1",
    "16777217",
    "16777216",
    "1e-7",
    "123456.789",
    "0.3333333333333",
    "7",
]
DECIMALS = ["0.1", "0.30000000000000004", "1.005", "9007199254740993", "9007199254740992", "-2.5"]
MOMENTS = [
    "2026-03-01 05:00:00",
    "2026-03-01 05:00:00.5",
    "2026-03-01 05:00:00.000007",
    "2025-12-31",
]
SPANS = ["1 year", "365 days", "360 days", "12 mons", "1 mon", "30 days", "-1 day", "25:00:00.5",
         "1 mon 1 sec", "-00:30:00"]  # fmt: skip
LOOPED = ["2024-11-03 05:30:00+00", "2024-11-03 06:30:00+00", "2024-11-03 06:10:00+00",
          "2024-11-03 05:10:00+00", "2024-11-03 04:59:00+00", "2024-03-10 07:30:00+00"]  # fmt: skip
GUIDS = [uuid.UUID(int=(i * 7919 % 5) * 2**90 + i % 3) for i in range(6)]
WORDS = ["", " ", "a", "A", "b", "B ", "é", "É", "zz", "a\t", "'; --", "日本", "ß"]


def quoted(values):
    return ["'{}'".format(str(one).replace("'", "''")) for one in values]


REPEATED = [one.removesuffix("+00") for one in [*LOOPED, "2024-11-03 05:45:00.25"]]


def _lengths(*lengths):
    return [f"CONCAT(REPEAT('x', {n}), '{c}')" for n in lengths for c in "ba"]


TYPES = {
    "sqlite": {
        "real": ("REAL", FLOATS, [Float(), Float(24), Float(asdecimal=True), Numeric(10, 2)]),
        "numeric": ("NUMERIC(10,2)", DECIMALS,
                    [Numeric(10, 2), Numeric(), Float(), Numeric(10, 2, asdecimal=False),
                     decorated(Numeric(10, 2))]),
        "integer": ("INTEGER", ["1", "2.5", "1e300", "-9007199254740993", "3"], [BigInteger()]),
        "datetime": ("DATETIME", quoted([*MOMENTS, "2026-03-01T05:00:00", "2026-03-01 05:00:00Z",
                                         "2026-03-01 05:00:00+02:00", "2026-03-01 05:00:00.5000"]),
                     [DateTime(), Zoned(), decorated(DateTime()), String()]),
        "now": ("TIMESTAMP DEFAULT CURRENT_TIMESTAMP", ["CURRENT_TIMESTAMP", *quoted(MOMENTS[:3])],
                [DateTime(), Zoned()]),
        "date": ("DATE", quoted(["2024-05-01", "2024-05-02", "2023-01-01"]), [Date(), String()]),
        "time": ("TIME", quoted(["10:00:00", "10:00", "09:59:59.5", "10:00:00.000000"]), [Time()]),
        "interval": ("DATETIME", quoted(["1970-01-02 00:00:00", "1970-01-01 00:00:00.000000",
                                         "1969-12-31 00:00:00"]), [Interval()]),
        "boolean": ("BOOLEAN", ["0", "1", "2", "-1", "0.5"], [Boolean(), Integer()]),
        "blob": ("BLOB", ["1", "2.5", "'a'", "x'00'", "x'ff00'"], [LargeBinary()]),
        "none": ("", ["1", "2.5", "'a'", "x'00'", "'5'"], [String(), LargeBinary()]),
        "text": ("VARCHAR(20)", quoted(WORDS), [String(20), decorated(String(20))]),
        "nocase": ("VARCHAR(20) COLLATE NOCASE", quoted(WORDS), [String(20)]),
        "rtrim": ("VARCHAR(20) COLLATE RTRIM", quoted(WORDS), [String(20)]),
        "uuid": ("CHAR(32)", quoted([GUIDS[0].hex, GUIDS[1].hex.upper(), GUIDS[2], GUIDS[3].hex]),
                 [Uuid(), Guid(), CHAR(32)]),
        "enum": ("VARCHAR(5)", quoted(["red", "blue", "amber"]),
                 [Enum(Colour), Enum("red", "blue", "amber"), decorated(Enum(Colour))]),
    },
    "postgresql": {
        "real": ("real", [*FLOATS, "'NaN'", "'-Infinity'"],
                 [REAL(), Float(24), Float(), Double(), Float(asdecimal=True), Numeric(),
                  decorated(REAL()), Float().with_variant(REAL(), "postgresql")]),
        "double": ("double precision", [*FLOATS, "'NaN'", "'Infinity'"],
                   [Double(), Float(24), Float(asdecimal=True), REAL(), Numeric(10, 2)]),
        "numeric": ("numeric", [*DECIMALS, "'NaN'", "1.0", "1.00"],
                    [Numeric(), Numeric(10, 2), Float(), Numeric(asdecimal=False),
                     decorated(Numeric(10, 2)), Integer()]),
        "bigint": ("bigint", ["9223372036854775807", "9007199254740993", "9007199254740992", "-5"],
                   [BigInteger(), Integer(), Float(), Numeric()]),
        "oid": ("oid", ["1", "4294967295", "17"], [Integer(), BigInteger()]),
        "interval": ("interval", quoted(SPANS), [Interval(), String(), decorated(Interval())]),
        "timestamptz": ("timestamptz", quoted(LOOPED),
                        [DateTime(timezone=True), DateTime(), Zoned(), decorated(DateTime())]),
        "timestamp": ("timestamp", quoted([*MOMENTS, "2024-03-10 02:30:00", "2024-03-10 02:10:00"]),
                      [DateTime(), DateTime(timezone=True)]),
        "date": ("date", quoted(["2024-05-01", "0001-01-01", "9999-12-31"]), [Date(), DateTime()]),
        "time": ("time", quoted(["10:00", "00:00:00.000001", "23:59"]), [Time()]),
        "timetz": ("timetz", quoted(["10:00+02", "09:00+01", "23:59-05", "08:00Z"]), [Time(True)]),
        "inet": ("inet", quoted(["10.0.0.1", "10.0.0.0/8", "::1", "9.0.0.1", "10.0.0.1/32"]),
                 [postgresql.INET(), String(), decorated(postgresql.INET())]),
        "cidr": ("cidr", quoted(["10.0.0.0/8", "10.0.0.0/16", "::/64"]), [postgresql.CIDR()]),
        "macaddr": ("macaddr", quoted(["08:00:2b:01:02:03", "00:00:2b:01:02:03"]), [String()]),
        "uuid": ("uuid", quoted(GUIDS), [Uuid(), Uuid(as_uuid=False), Guid(), String(), CHAR(36)]),
        "enum": ("mood", quoted(["red", "blue", "amber"]),
                 [Enum(Colour, name="mood"), Enum(Colour, native_enum=False), String(),
                  decorated(Enum(Colour, name="mood"))]),
        "citext": ("citext", quoted(["a", "B", "A", "b", "c", "C"]),
                   [postgresql.CITEXT(), String(), decorated(String())]),
        "char": ("char(3)", quoted(["a", "a\t", "b", "", "ab"]), [CHAR(3), String()]),
        "text": ("text", quoted(WORDS), [String(), decorated(String())]),
        "collated": ('varchar(20) COLLATE "en-x-icu"', quoted(WORDS), [String(20)]),
        "any case": ("varchar(20) COLLATE anycase", quoted(WORDS), [String(20)]),
        "name": ("name", quoted(["b", "a", "B"]), [String()]),
        "money": ("money", ["12.5", "-1", "1234567.89", "0.01"], [String(), Numeric(10, 2)]),
        "bit": ("bit(4)", ["B'0001'", "B'1000'", "B'0111'"], [String()]),
        "varbit": ("bit varying(8)", ["B'0001'", "B'1'", "B'0111'", "B''"], [String()]),
        "range": ("int4range", quoted(["[1,5)", "[1,3)", "(,3)", "empty"]), [String()]),
        "bytea": ("bytea", ["'\\x00'", "'\\xff00'", "''"], [LargeBinary()]),
        "boolean": ("boolean", ["true", "false"], [Boolean()]),
        "domain": ("grams", FLOATS, [Float(), REAL(), String()]),
        "tsvector": ("tsvector", quoted(["a b", "b", "c a"]), [String()]),
    },
    "mariadb": {
        "double": ("DOUBLE", FLOATS, [Double(), Float(), mysql.DOUBLE(), Float(asdecimal=True),
                                      Numeric(10, 2), mysql.DOUBLE(asdecimal=False)]),
        "float": ("FLOAT", FLOATS, [Float(), Double(), mysql.FLOAT(), decorated(Float())]),
        "decimal": ("DECIMAL(30,12)", DECIMALS,
                    [Numeric(30, 12), Float(), Numeric(30, 12, asdecimal=False), Numeric(10, 2),
                     decorated(Numeric(10, 2))]),
        "bigint": ("BIGINT UNSIGNED", ["18446744073709551615", "9007199254740993", "0",
                                       "9007199254740992"], [BigInteger(), Integer(), Float()]),
        "year": ("YEAR", ["2024", "1999", "2100"], [Integer()]),
        "enum": ("ENUM('red','blue','amber')", quoted(["red", "blue", "amber"]),
                 [Enum(Colour), String(10), decorated(Enum(Colour)), mysql.ENUM("red", "blue")]),
        "set": ("SET('c','b','a')", quoted(["c", "a", "a,c", "b,a", ""]), [String(20)]),
        "bit": ("BIT(4)", ["b'0001'", "b'1000'", "b'0111'"],
                [mysql.BIT(4), Integer(), Boolean()]),
        "tinyint": ("TINYINT(1)", ["0", "1", "2", "-1"], [Boolean(), Integer()]),
        "time": ("TIME(3)", quoted(["10:00:00", "25:00:00", "-00:30:00", "-25:00:01.5", "838:59:59"]
                                   ),
                 [Time(), mysql.TIME(fsp=3)]),
        "timestamp": ("TIMESTAMP(6) NULL", quoted(REPEATED), [DateTime()]),
        "datetime": ("DATETIME(6)", quoted(MOMENTS), [DateTime(), Zoned(), mysql.DATETIME(fsp=6)]),
        "date": ("DATE", quoted(["2024-05-01", "1000-01-01", "9999-12-31"]), [Date()]),
        "varchar": ("VARCHAR(20)", quoted(WORDS), [String(20), decorated(String(20))]),
        "any case": ("VARCHAR(20) COLLATE utf8mb4_general_ci", quoted(WORDS), [String(20)]),
        "nopad": ("VARCHAR(20) COLLATE utf8mb4_nopad_bin", quoted(WORDS), [String(20)]),
        "char": ("CHAR(20)", quoted(WORDS), [String(20), CHAR(20)]),
        "char nopad": ("CHAR(20) COLLATE utf8mb4_nopad_bin", quoted(WORDS), [String(20)]),
        "text": ("TEXT", _lengths(3, 300, 1100),
                 [String(), mysql.LONGTEXT()]),
        "long": ("VARCHAR(700)", _lengths(3, 600),
                 [String(700)]),
        "uuid": ("UUID", quoted(GUIDS), [Uuid(), Guid(), String(36)]),
        "inet": ("INET6", quoted(["::1", "2001:db8::1", "::ffff:10.0.0.2"]), [String(40)]),
        "binary": ("VARBINARY(5)", ["x'00'", "x'ff00'", "''"], [LargeBinary()]),
        "boolean": ("BOOLEAN", ["0", "1"], [Boolean()]),
    },
}  # fmt: skip

REFUSED = {("mariadb", "char nopad")}
FIRST = {
    "postgresql": [
        "SET TIME ZONE 'America/New_York'",
        "CREATE EXTENSION IF NOT EXISTS citext",
        "DO $$ BEGIN CREATE TYPE mood AS ENUM ('red', 'blue', 'amber'); "
        "EXCEPTION WHEN duplicate_object THEN NULL; END $$",
        "DO $$ BEGIN CREATE DOMAIN grams AS real; "
        "EXCEPTION WHEN duplicate_object THEN NULL; END $$",
        "CREATE COLLATION IF NOT EXISTS anycase "
        "(provider = icu, locale = 'und-u-ks-level2', deterministic = false)",
        "DO $$ BEGIN CREATE TYPE drawn_pair AS (a float8, b text); "
        "EXCEPTION WHEN duplicate_object THEN NULL; END $$",
    ],
    "mariadb": [],
    "sqlite": [],
}


UNSORTED = {("mariadb", "text"), ("mariadb", "long"), *REFUSED}
"""Types of which the engine sorts only the beginning of values, or not as it compares them."""

ENDLESS = quoted(["infinity", "-infinity", "0044-03-15 BC", "9999-12-31", "12024-01-01",
                  "2024-05-01"])  # fmt: skip
ACCENTS = quoted(["a", "A", "á", "Á", "à", "b", "B", "ab", "Ab", "áb", "ß", "ss", "æ", ""])
FIELDS = ["ROW(1, NULL)", "ROW(NULL, 'x')", "ROW(1.5, 'y')", "ROW(NULL, NULL)", "ROW(1, 'a')"]
CONVERTING = [Mail(), Compared(40), Shouted(40), Lowered(40), OwnText()]
_CONVERTED = ("VARCHAR(40)", quoted(["a", "A", "b", "B", "Ab", "aB", "ab", "AB", "c", "C"]))
_SHIFTED = ("INTEGER", ["5", "-3", "11", "10", "0", "7", "-10", "21"], [Shifted(), Negated()])
_MEMBERS = ", ".join(f"'m{i}'" for i in range(64))
MORE = {
    "sqlite": {
        "converted": (*_CONVERTED, CONVERTING),
        "shifted": _SHIFTED,
        "later": ("DATETIME", quoted(MOMENTS[:3]), [Later()]),
    },
    "postgresql": {
        "converted": (*_CONVERTED, CONVERTING),
        "shifted": _SHIFTED,
        "later": ("timestamp", quoted(MOMENTS), [Later()]),
        "endless date": ("date", ENDLESS, [Date(), NullType()]),
        "endless": ("timestamp", ENDLESS, [DateTime(), NullType()]),
        "endless zoned": ("timestamptz", ENDLESS, [DateTime(timezone=True)]),
        "pair": ("drawn_pair", FIELDS, [NullType()]),
    },
    "mariadb": {
        "converted": (*_CONVERTED, CONVERTING),
        "shifted": _SHIFTED,
        "later": ("DATETIME(6)", quoted(MOMENTS), [Later()]),
        "levels": ("VARCHAR(64) COLLATE uca1400_as_cs", ACCENTS, [String(64), NullType()]),
        "cased": ("VARCHAR(255) COLLATE uca1400_ai_cs", ACCENTS, [String(255)]),
        "accents": ("VARCHAR(30) COLLATE uca1400_as_ci", ACCENTS, [String(30)]),
        "members": (f"SET({_MEMBERS})", quoted(["m63", "m63,m0", "m0", "", "m63,m62", "m62"]),
                    [String(300), NullType()]),
    },
}  # fmt: skip
"""Types to draw from beside TYPES: converted by a model, or hard to tell from their neighbours."""

DRAWN = {
    engine: {kind: of for kind, of in {**kinds, **MORE[engine]}.items()
             if (engine, kind) not in UNSORTED}
    for engine, kinds in TYPES.items()
}  # fmt: skip


def summer_zone(connection):
    """A time zone with summer time on MariaDB, whose own tables may be empty: as in New York."""
    known = (
        connection.exec_driver_sql(
            "SELECT name FROM mysql.time_zone_name WHERE name IN ('US/Eastern', 'Vrelko/Summer')"
        )
        .scalars()
        .first()
    )
    if known is not None:
        return known
    connection.exec_driver_sql("INSERT INTO mysql.time_zone (Use_leap_seconds) VALUES ('N')")
    zone = connection.exec_driver_sql("SELECT LAST_INSERT_ID()").scalar()
    for statement in (
        f"INSERT INTO mysql.time_zone_transition_type VALUES ({zone}, 0, -18000, 0, 'WT'), "
        f"({zone}, 1, -14400, 1, 'ST')",
        "INSERT INTO mysql.time_zone_transition VALUES "
        f"({zone}, -2147483648, 0), ({zone}, 1710054000, 1), ({zone}, 1730613600, 0)",
        f"INSERT INTO mysql.time_zone_name VALUES ('Vrelko/Summer', {zone})",
    ):
        connection.exec_driver_sql(statement)
    connection.commit()
    return "Vrelko/Summer"


def promises(connection, engine):
    """The rows of docs/values.md for an engine: what is read of each type and compared with it."""
    rows = []
    for ddl, _, models in TYPES[engine].values():
        connection.exec_driver_sql(f"CREATE TABLE hard (id INTEGER NOT NULL PRIMARY KEY, k {ddl})")
        table = Table(
            "hard",
            MetaData(),
            Column("id", Integer, primary_key=True),
            Column("k", NullType() if engine == "sqlite" else models[0]),
        )
        try:
            listing = Listing(select(table.c.id), orders="k")
            key = listing.lent_variant(connection, None).source.keys[0]
            read, bound = _written(key.read, connection), _written(key.parameter("v"), connection)
            more = " and bounds" if key.low is not None else ""
            done = f"`{read}` | `{bound}`{more}"
        except OrderError as error:
            done = f"refused | {error.todo}"
        finally:
            connection.exec_driver_sql("DROP TABLE hard")
        names = ", ".join(dict.fromkeys(_named(model) for model in models))
        rows.append(f"| {ddl or '(none)'} | {done} | {names} |")
    return rows


def _written(expression, connection):
    """An expression as it is sent, without the types that the dialect itself adds to parameters."""
    found = str(expression.compile(dialect=connection.dialect)).replace("hard.", "")
    return re.sub(r"(%\(v\)s|\?)(::[A-Z]+( WITH(OUT)? TIME ZONE| PRECISION)?)?", ":v", found)


def _named(model):
    if type(model).__name__ != "Decorated":
        return type(model).__name__
    return f"a decorator over {type(model.impl_instance).__name__}"


HEAD = "| type | read | compared with | models tried, beside the reflected one |"
HEADINGS = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
PAGE = Path(__file__).parent.parent / "docs" / "values.md"


def page_of_promises(rows):
    """The table as Markdown."""
    return "\n".join([HEAD, "|---|---|---|---|", *rows])


def main():
    """Write the tables of docs/values.md: one an engine, each under the engine's heading."""
    from servers import open_server

    page = PAGE.read_text(encoding="utf-8")
    for engine in TYPES:
        with open_server(engine) as server, server.connect() as connection:
            for one in FIRST[engine]:
                connection.exec_driver_sql(one)
            if engine == "mariadb":
                connection.exec_driver_sql(f"SET time_zone = '{summer_zone(connection)}'")
            table = page_of_promises(promises(connection, engine))
        before, heading, rest = page.partition(f"\n## {HEADINGS[engine]}\n")
        assert heading, f"{PAGE} has no heading {HEADINGS[engine]!r}"
        ahead, _, behind = rest.partition(HEAD)
        after = re.sub(r"\A(\n\|.*)*", "", behind)
        page = f"{before}{heading}{ahead}{table}{after}"
    PAGE.write_text(page, encoding="utf-8")


if __name__ == "__main__":
    main()
