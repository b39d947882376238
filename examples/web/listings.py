"""The listings that the web examples serve: a numbered grid and an endless feed."""

import os

from sqlalchemy import bindparam, create_engine, select

import vrelko
from vrelko.larkmere.schema import capture

engine = create_engine(os.environ.get("LARKMERE_URL", "sqlite:///larkmere/larkmere.db"))

SECRETS = [b"keep-this-out-of-the-repository!"]

captures = vrelko.Listing(
    select(capture.c.id, capture.c.ring, capture.c.caught_at, capture.c.weight_g),
    name="captures",
    orders=["-caught_at", "-weight_g:nulls-last"],
    filters={"station": capture.c.station_id == bindparam("station")},
    sizes=vrelko.Sizes(25, max=100),
    total="exact",
    secrets=SECRETS,
)

arrivals = vrelko.Listing(
    select(capture.c.id, capture.c.ring, capture.c.caught_at),
    name="arrivals",
    kind="feed",
    orders="-caught_at",
    sizes=vrelko.Sizes(20, max=50),
    secrets=SECRETS,
)
