"""Statements: what is in their text, and how little of an index they read."""

import shutil

import pytest
from sqlalchemy import create_engine, select, text
from sqlalchemy.dialects import sqlite

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.core.order import Order, Term
from vrelko.core.seek import KeyRange, group_ranges, plan_ranges
from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.larkmere.schema import capture


def seek_texts(orders, key, backward=False, columns=(capture.c.id,)):
    variant = Listing(select(*columns), orders=orders).variant("sqlite", None)
    return [
        " ".join(str(one.compile(dialect=sqlite.dialect(paramstyle="named"))).split())
        for one in variant.seek(key, backward)
    ]


def where_of(sql):
    return sql.partition(" WHERE ")[2].partition(" LIMIT")[0].replace("capture.", "")


def test_row_id_ties_are_read_by_a_statement_of_their_own():
    first, second = seek_texts("-caught_at", (1, 2))
    assert where_of(first) == (
        "caught_at = :vrelko_key_0 AND id < :vrelko_key_1 ORDER BY caught_at DESC, id DESC"
    )
    assert where_of(second) == "caught_at < :vrelko_key_0 ORDER BY caught_at DESC, id DESC"


def test_same_directions_join_into_a_row_value():
    first, second = seek_texts("species_id,caught_at", (1, 2, 3))
    assert "id > :vrelko_key_2" in first
    assert "(capture.species_id, capture.caught_at) > (:vrelko_key_0, :vrelko_key_1)" in second
    assert [where_of(sql).count("(") for sql in seek_texts("species_id,-ring", (1, 2, 3))] == [
        0,
        0,
        0,
    ]


def test_nulls_are_ranges_of_their_own():
    last = [where_of(sql).split(" ORDER")[0] for sql in seek_texts("-weight_g", (1.0, 2))]
    assert last == [
        "weight_g = :vrelko_key_0 AND id < :vrelko_key_1",
        "weight_g < :vrelko_key_0",
        "weight_g IS NULL",
    ]
    null = [where_of(sql).split(" ORDER")[0] for sql in seek_texts("weight_g", (None, 2))]
    assert null == ["weight_g IS NULL AND id > :vrelko_key_1", "weight_g IS NOT NULL"]
    back = seek_texts("weight_g", (None, 2), backward=True)
    assert [where_of(sql).split(" ORDER")[0] for sql in back] == [
        "weight_g IS NULL AND id < :vrelko_key_1"
    ]
    assert "NULLS LAST" in seek_texts("weight_g:nulls-last", (1.0, 2))[0]


def test_values_never_stand_in_the_text(larkmere):
    listing = Listing(select(capture.c.ring), orders="ring", sizes=Sizes(3))
    nasty = "'; DROP TABLE capture; --"
    with larkmere.connect() as connection:
        page = listing.read(connection, Spot.after((nasty, 5)))
        assert len(page) == 3
    assert all("DROP" not in str(asked) for asked in page.statements)
    assert all(" OR " not in str(asked) for asked in page.statements)


def test_forms_of_ranges():
    order = Order((Term("a"), Term("b"), Term("c")))
    assert plan_ranges(order, [False] * 3, "row-value") == (KeyRange((), (0, 1, 2)),)
    split = plan_ranges(order, [False] * 3, "split")
    assert split == (KeyRange((0, 1), (2,)), KeyRange((0,), (1,)), KeyRange((), (0,)))
    assert plan_ranges(order, [False] * 3, "expanded-or") == split
    assert group_ranges(split, [False] * 3, frozenset(), "expanded-or") == (split,)
    assert group_ranges(split, [False] * 3, frozenset(), "split") == tuple((r,) for r in split)
    null = KeyRange((), null=0)
    assert group_ranges((*split, null), [False] * 3, frozenset({0}), "expanded-or") == (
        split,
        (null,),
    )


@pytest.fixture(scope="module")
def indexed(larkmere_file, tmp_path_factory):
    """A copy with an index for each order below."""
    path = tmp_path_factory.mktemp("indexed") / "larkmere.db"
    shutil.copy(larkmere_file, path)
    engine = create_engine(f"sqlite:///{path}")
    with engine.begin() as connection:
        connection.execute(text("CREATE INDEX by_weight ON capture (weight_g)"))
        connection.execute(text("CREATE INDEX by_status ON capture (status)"))
        connection.execute(text("CREATE INDEX mixed ON capture (species_id, caught_at DESC)"))
        connection.execute(text("CREATE INDEX three ON capture (species_id, age_code, ring)"))
    yield engine
    engine.dispose()


@pytest.mark.parametrize(
    "order",
    [
        "-caught_at",
        "id",
        "-id",
        "weight_g",
        "-weight_g",
        "weight_g:nulls-last",
        "-weight_g:nulls-first",
        "status",
        "-status",
        "species_id,-caught_at,id",
        "-species_id,caught_at,-id",
        "species_id,age_code,ring",
        "-species_id,-age_code,-ring",
    ],
)
def test_a_page_at_any_depth_reads_about_a_page(indexed, order):
    """Tie groups here hold up to 13,000 rows: the bound holds for them too."""
    listing = Listing(select(capture.c.id, capture.c.ring), orders=order, total="none")
    wide = Listing(select(capture.c.id), orders=order, sizes=Sizes(1, max=1), total="none")
    with indexed.connect() as connection:
        for depth in (0, 50, 3_000, 9_990, 17_000, 19_960):
            key = wide.read(connection, Spot.offset(depth)).keys[0]
            inside = listing.read(connection, Spot.offset(depth)).cursor(0)
            for spot, rows in (
                (Spot.after(key), 19_999 - depth),
                (Spot.before(key), depth),
                (inside, 19_999 - depth),
            ):
                with count_steps(connection) as steps:
                    page = listing.read(connection, spot)
                assert len(page) == min(25, rows)
                assert steps.count < 900, (order, spot)


@pytest.mark.parametrize("order", ["ring", "-ring"])
def test_a_range_on_the_order_itself_does_not_hide_the_key(indexed, order):
    """SQLite seeks by one bound a side: it must be the key's, not the listing's own."""
    listing = Listing(
        select(capture.c.id, capture.c.ring).where(
            capture.c.ring.between("L10000200", "L10009000"), capture.c.ring > "L10000100"
        ),
        orders=order,
        total="none",
    )
    with indexed.connect() as connection:
        for depth in (1_000, 3_000):
            key = listing.read(connection, Spot.offset(depth)).keys[-1]
            for spot in (Spot.after(key), Spot.before(key)):
                with count_steps(connection) as steps:
                    assert len(listing.read(connection, spot)) == 25
                assert steps.count < 900, (order, spot)
