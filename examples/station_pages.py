"""Serve one station's captures page by page, as a web handler would.

Run it after `make demo`, or name the demo database: python examples/station_pages.py larkmere.db
"""

import sys

from sqlalchemy import bindparam, create_engine, select

import vrelko
from vrelko.larkmere.schema import capture

captures = vrelko.Listing(
    select(capture.c.id, capture.c.ring, capture.c.caught_at, capture.c.weight_g).where(
        capture.c.station_id == bindparam("station")
    ),
    name="station_grid",
    kind="grid",
    orders=["-caught_at", "-weight_g:nulls-last"],
    filters={"species": capture.c.species_id == bindparam("species")},
    sizes=vrelko.Sizes(25, max=200),
    secrets=[b"keep-this-out-of-the-repository!"],
)


def handle(connection, query):
    """Return what a handler sends: `query` holds texts from the URL, or nothing."""
    at = query.get("cursor") or vrelko.Spot.number(query.get("page"))
    params = {"station": 3, "species": query.get("species")}
    page = captures.read(
        connection, at, params=params, size=query.get("size"), order=query.get("order")
    )
    return page.as_dict() | {"strip": " ".join(str(link) for link in page.strip(9))}


def main(database):
    engine = create_engine(f"sqlite:///{database}")
    with engine.connect() as connection:
        query = {}
        for _ in range(3):
            sent = handle(connection, query)
            print(sent["from_to"], "  ", sent["strip"])
            query = {"cursor": sent["links"]["next"]}
        print(handle(connection, {"page": "40", "size": "50"})["from_to"])
        for wrong in ({"page": "0"}, {"page": "abc"}, {"size": "1000000000"}, {"cursor": "1abc.x"}):
            try:
                handle(connection, wrong)
            except vrelko.errors.VrelkoError as error:
                print(f"{wrong}: {error}")


if __name__ == "__main__":
    main(sys.argv[1] if len(sys.argv) > 1 else "larkmere/larkmere.db")
