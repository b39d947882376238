"""What a page behind a cursor costs in calls of our own: the path that every reader takes."""

import sys
from pathlib import Path

from sqlalchemy import select

import vrelko
from vrelko.larkmere.schema import capture

HOME = str(Path(vrelko.__file__).parent)
CALLS = 18
"""From `Listing.read` to the page, statements built and the cursor known; so many, and no more.

One of them tells which database the connection is to.
"""


def calls_of(read):
    """The names of our own functions that a call runs, in turn."""
    found = []

    def note(frame, event, _):
        if event == "call" and frame.f_code.co_filename.startswith(HOME):
            found.append(frame.f_code.co_name)

    before = sys.getprofile()
    sys.setprofile(note)
    try:
        read()
    finally:
        sys.setprofile(before)
    return found


def test_a_page_behind_a_cursor_takes_no_more_calls_than_it_did(larkmere):
    c = capture.c
    feed = vrelko.Listing(
        select(c.id, c.ring, c.weight_g),
        orders="id",
        name="hot",
        sizes=vrelko.Sizes(20),
        total="none",
    )
    with larkmere.connect() as connection:
        page = feed.read(connection)
        for _ in range(3):
            page = feed.read(connection, page.next)
        cursor = page.next
        feed.read(connection, cursor)
        found = calls_of(lambda: feed.read(connection, cursor))
    assert len(found) <= CALLS, found
