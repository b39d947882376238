"""Pages from a read-only replica that follows its primary, with anchors that are kept up there."""

import time

import pytest
from sqlalchemy import Column, Integer, MetaData, Table, create_engine, delete, insert, select, text

import vrelko
from shards import postgresql_replica
from vrelko.errors import DatabaseError

pytestmark = pytest.mark.slow  # starts servers of its own
t = Table("reading", MetaData(), Column("id", Integer, primary_key=True), Column("n", Integer))
GRID = vrelko.Listing(
    select(t), name="readings", orders="-n,id", jumps="anchors", total="exact",
    sizes=vrelko.Sizes(10),
)  # fmt: skip


@pytest.fixture(scope="module")
def servers():
    with postgresql_replica() as urls:
        primary, replica = (create_engine(url) for url in urls)
        t.metadata.create_all(primary)
        with primary.begin() as connection:
            connection.execute(insert(t), [{"id": i, "n": i * 7 % 90} for i in range(1, 2_000)])
        yield primary, replica
        primary.dispose()
        replica.dispose()


def follow(primary, replica):
    """Wait until the replica has what the primary has."""
    with primary.connect() as connection:
        now = connection.execute(text("SELECT pg_current_wal_insert_lsn()")).scalar()
    for _ in range(200):
        with replica.connect() as connection:
            asked = text("SELECT pg_last_wal_replay_lsn() >= CAST(:now AS pg_lsn)")
            if connection.execute(asked, {"now": now}).scalar():
                return
        time.sleep(0.05)
    raise AssertionError("the replica does not follow")


def compare(replica):
    plain = GRID.changed(jumps="offset")
    for spot in (vrelko.Spot.number(1), vrelko.Spot.number(90), vrelko.Spot.end()):
        found, expected = GRID.read(replica, spot), plain.read(replica, spot)
        assert (list(found), found.total) == (list(expected), expected.total)
    assert found.number_exact
    assert GRID.where_is(replica, found.keys[0]) == plain.where_is(replica, found.keys[0])
    if not found.notes:
        assert GRID.share_of(replica, found.keys[0]).error == 0
    return found.notes


def test_a_replica_jumps_by_its_primarys_anchors(servers):
    primary, replica = servers
    follow(primary, replica)
    assert "there are no anchors" in compare(replica)[0]
    anchors = GRID.counted_anchors(primary, every=20)
    anchors.build()
    follow(primary, replica)
    assert compare(replica) == ()
    with primary.begin() as connection:
        connection.execute(delete(t).where(t.c.id % 9 == 0))
    follow(primary, replica)
    assert compare(replica) == ()  # by the log, which the replica has as well
    assert anchors.fold() == 222
    follow(primary, replica)
    assert compare(replica) == ()
    there = GRID.counted_anchors(replica)
    assert there.stored() == anchors.stored()
    assert not any(there.verify())
    with primary.begin() as connection:
        connection.execute(delete(t).where(t.c.id < 8))
    follow(primary, replica)
    for call in (there.fold, there.build, there.drop):
        with pytest.raises(DatabaseError, match="read-only"):
            call()
    anchors.drop()
    follow(primary, replica)
    assert "there are no anchors" in compare(replica)[0]
