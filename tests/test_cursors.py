"""Cursors: exact values, one text a spot, bound, versioned, signed."""

import random
import string
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import bindparam, select

from exposed import Listing
from vrelko import Spot
from vrelko.core.spot import Spot as CoreSpot
from vrelko.errors import CursorError, ListingError, PageError
from vrelko.larkmere.schema import capture
from vrelko.serving.cursors.book import CursorBook, fingerprint_of
from vrelko.serving.cursors.values import decode_values, encode_value
from vrelko.serving.variants.store import binding

SECRET = b"0123456789abcdef"
PRINT = fingerprint_of(["captures", "-caught_at,-id"])

scalars = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.floats(allow_nan=False),
    st.text(),
    st.binary(),
    st.dates(),
    st.datetimes(),
    st.datetimes(timezones=st.just(UTC)),
    st.times(),
    st.timedeltas(),
    st.uuids(),
    st.decimals(allow_nan=False),
)
spots = st.one_of(
    st.sampled_from([Spot.start(), Spot.end()]),
    st.builds(Spot.offset, st.integers(0, 10**12)),
    st.builds(
        lambda *parts: CoreSpot("before", *parts),
        st.lists(scalars, min_size=1, max_size=3).map(tuple),
        st.none() | st.integers(0, 10**9),
        st.booleans(),
    ),
    st.builds(Spot.after, st.lists(scalars, min_size=1, max_size=3).map(tuple)),
)


@given(value=scalars)
def test_values_survive_exactly(value):
    back = decode_values([encode_value(value)])[0]
    assert back == value
    assert type(back) is type(value)
    if isinstance(value, (datetime, time)):
        value = value.replace(fold=0)  # which no database keeps
    assert repr(back) == repr(value)


@given(spot=spots, signed=st.booleans())
def test_spots_survive_and_have_one_text(spot, signed):
    book = CursorBook([SECRET] if signed else [])
    text = book.write(spot, PRINT)
    assert book.read(text, PRINT) == spot
    assert text.isascii()
    assert all(c in string.ascii_letters + string.digits + "-_." for c in text)


@pytest.mark.parametrize("secrets", [[], [SECRET]])
def test_mutated_cursors_are_never_accepted(secrets):
    rng = random.Random(5)
    book = CursorBook(secrets)
    letters = string.ascii_letters + string.digits + "-_.=~ é"
    texts = [
        book.write(Spot.after((datetime(2026, 3, 1, 5), 17)), PRINT),
        book.write(Spot.start(), PRINT),
    ]
    for _ in range(100_000 if secrets else 4_000):
        text = rng.choice(texts)
        at = rng.randrange(len(text) + 1)
        kind = rng.randrange(4)
        if kind == 0:
            mutated = text[:at] + rng.choice(letters) + text[at + 1 :]
        elif kind == 1:
            mutated = text[:at]
        elif kind == 2:
            mutated = text[:at] + rng.choice(letters) + text[at:]
        else:
            other = rng.randrange(len(text))
            swapped = list(text)
            swapped[at - 1], swapped[other] = swapped[other], swapped[at - 1]
            mutated = "".join(swapped)
        if mutated in texts:
            continue
        with pytest.raises(CursorError, match=r"\. (Drop|Take)"):
            book.read(mutated, PRINT)


@given(spot=spots, sealed=st.booleans())
def test_a_book_reads_its_own_cursors_as_any_other_book_does(spot, sealed):
    """What it remembers of a cursor is what stands in it, and holds for its own binding alone."""
    if sealed:
        pytest.importorskip("cryptography")
    mine, other = CursorBook([SECRET]), CursorBook([SECRET])
    cursor = mine.write(spot, PRINT, sealed)
    for _ in range(2):
        read = [book.read(cursor, PRINT, sealed) for book in (mine, other)]
        assert read[0] == read[1]
        mine_key, other_key = (one.key or () for one in read)
        assert list(map(type, mine_key)) == list(map(type, other_key))
        with pytest.raises(CursorError, match="a different"):
            mine.read(cursor, fingerprint_of(["elsewhere"]), sealed)


def test_a_book_remembers_a_bounded_number_of_cursors():
    book = CursorBook([SECRET])
    written = [book.write(Spot.offset(i), PRINT) for i in range(2_500)]
    assert len(book._known) <= 1_000
    assert [book.read(cursor, PRINT).at for cursor in written] == list(range(2_500))
    fleeting = CursorBook([SECRET], expires_s=60)
    fleeting.read(fleeting.write(Spot.end(), PRINT), PRINT)
    assert not fleeting._known


def test_equal_parameters_of_two_spellings_are_bound_apart(larkmere):
    """As another process would, whatever this one served before."""
    where = capture.c.weight_g > bindparam("least")
    heavy = Listing(select(capture.c.id).where(where), orders="id", secrets=[SECRET])
    with larkmere.connect() as connection:
        pages = [
            heavy.read(connection, params={"least": least})
            for least in (Decimal("1.0"), Decimal("1.00"), 0.0, -0.0, 1, True)
        ]
        assert len({page.next for page in pages}) == 6
        again = heavy.read(connection, pages[1].next, params={"least": Decimal("1.00")})
        assert again.scalars()[0] > pages[1].scalars()[-1]
        with pytest.raises(CursorError, match="a different"):
            heavy.read(connection, pages[0].next, params={"least": Decimal("1.00")})


def test_golden_cursors():
    """A cursor given out once must be read by every later version."""
    spot = Spot.after((datetime(2026, 3, 1, 5), -0.5, None, "é", b"\x00", True, date(2026, 1, 2)))
    plain = (
        "2WyJvUkw3TmRoTCIsImEiLFsidDIwMjYtMDMtMDFUMDU6MDA6MDAiLCJmLTAuNSIsIm4iLCJzXHUwMGU"
        "5IiwieEFBPT0iLCJiMSIsImQyMDI2LTAxLTAyIl1d.559b8a6e64"
    )
    signed = (
        "2WyJvUkw3TmRoTCIsImEiLFsidDIwMjYtMDMtMDFUMDU6MDA6MDAiLCJmLTAuNSIsIm4iLCJzXHUwMGU"
        "5IiwieEFBPT0iLCJiMSIsImQyMDI2LTAxLTAyIl1d.76f5683e7134ae0c395631697b06fcdc"
    )
    assert CursorBook().read(plain, PRINT) == spot
    assert CursorBook([SECRET]).read(signed, PRINT) == spot
    with pytest.raises(CursorError) as caught:
        CursorBook().read("1" + plain[1:], PRINT)
    assert caught.value.code == "cursor-version"


def test_other_values_keep_their_type():
    for value in (Decimal("1.50"), UUID(int=7), timedelta(days=-1, microseconds=3), time(5, 0)):
        assert repr(decode_values([encode_value(value)])[0]) == repr(value)
    with pytest.raises(PageError, match="list"):
        encode_value([1])


def test_signatures_need_the_secret_and_rotate():
    old, new = CursorBook([SECRET]), CursorBook([b"another secret, newer", SECRET])
    text = old.write(Spot.end(), PRINT)
    assert new.read(text, PRINT) == Spot.end()
    assert new.write(Spot.end(), PRINT) != text
    with pytest.raises(CursorError):
        CursorBook([b"another secret, newer"]).read(text, PRINT)
    with pytest.raises(CursorError):
        old.read(CursorBook().write(Spot.end(), PRINT), PRINT)
    with pytest.raises(ListingError, match="16 bytes"):
        CursorBook([b"short"])


def listing(name="grid", **settings):
    statement = select(capture).where(capture.c.station_id == bindparam("station"))
    filters = {"species": capture.c.species_id == bindparam("species")}
    return Listing(statement, name=name, orders=["-caught_at", "ring"], filters=filters, **settings)


def test_cursors_are_bound_to_listing_order_filters_and_reader(larkmere):
    base = {"params": {"station": 3}, "order": "-caught_at", "scope": "anna"}
    with larkmere.connect() as connection:
        cursor = listing().read(connection, **base).next
        assert listing().read(connection, cursor, **base).rows
        for change in (
            {"params": {"station": 4}},
            {"params": {"station": 3, "species": 1}},
            {"order": "ring"},
            {"scope": "berta"},
        ):
            with pytest.raises(CursorError, match="a different"):
                listing().read(connection, cursor, **{**base, **change})
        with pytest.raises(CursorError, match="a different"):
            listing("other").read(connection, cursor, **base)


def test_cursors_outlive_columns_and_sizes(larkmere):
    wide = Listing(select(capture), name="grid", orders="-caught_at")
    narrow = Listing(select(capture.c.ring), name="grid", orders="-caught_at")
    with larkmere.connect() as connection:
        cursor = wide.read(connection, size=10).next
        assert [row.ring for row in narrow.read(connection, cursor, size=5)] == [
            row.ring for row in wide.read(connection, cursor, size=5)
        ]


def test_a_forged_value_of_another_type_is_no_crash(larkmere):
    forged = listing().changed(count="each")
    with larkmere.connect() as connection:
        page = forged.read(connection, params={"station": 3})
        book = forged.settings.book
        print_ = fingerprint_of(
            binding(forged.name, forged.variant("sqlite", None), {"station": 3}, None)
        )
        assert book.write(Spot.start(), print_) == page.self
        for key in ((5.0, 10**30), (datetime(2026, 1, 1), 10**30), (1,)):
            with pytest.raises(PageError):
                forged.read(connection, book.write(Spot.after(key), print_), params={"station": 3})
