"""The listings of the demo page."""

from __future__ import annotations

from sqlalchemy import bindparam, select

from vrelko.core.arithmetic import Sizes
from vrelko.larkmere.schema import capture, species, station
from vrelko.serving.listing import Listing
from vrelko.sql.search import Search

STATUSES = ("new", "waiting", "queried", "checked", "duplicate")

# Names by subqueries of one row leave one table, as counted anchors need.
_ROWS = select(
    capture.c.id,
    capture.c.ring,
    select(species.c.name)
    .where(species.c.id == capture.c.species_id)
    .scalar_subquery()
    .label("species"),
    select(station.c.name)
    .where(station.c.id == capture.c.station_id)
    .scalar_subquery()
    .label("station"),
    capture.c.caught_at,
    capture.c.weight_g,
    capture.c.status,
)
_FILTERS = {
    "species": capture.c.species_id == bindparam("species"),
    "station": capture.c.station_id == bindparam("station"),
    "status": capture.c.status == bindparam("status"),
}

GRID = Listing(
    _ROWS,
    name="captures",
    kind="grid",
    total="exact",
    sizes=Sizes(25, max=100),
    orders=[
        "-caught_at",
        "caught_at",
        "-weight_g:nulls-last",
        "weight_g:nulls-last",
        "ring",
        "-ring",
    ],
    filters=_FILTERS,
    search=Search(["ring"]),
    periods="caught_at",
    jumps="anchors",
)
FEED = Listing(
    _ROWS,
    name="arrivals",
    kind="feed",
    orders="-caught_at",
    filters=_FILTERS,
    sizes=Sizes(20, max=50),
)
BY_OFFSET = Listing(
    _ROWS,
    name="by_offset",
    kind="grid",
    orders="-caught_at",
    # A count would be a cost that the other side has not; the pages alone are compared.
    total="none",
    strategy="offset",
    sizes=Sizes(10, max=50),
)
BY_KEYSET = Listing(
    _ROWS, name="by_keyset", kind="feed", orders="-caught_at", sizes=Sizes(10, max=50)
)
SPECIES = Listing(
    select(species.c.id, species.c.name), name="species", kind="choices", orders="name", cap=500
)
STATIONS = Listing(
    select(station.c.id, station.c.name), name="stations", kind="choices", orders="name", cap=500
)
LISTINGS = {one.name: one for one in (GRID, FEED, SPECIES, STATIONS)}
