"""Every way through a listing, held equal to rows that one plain statement gave."""

from __future__ import annotations

from vrelko import Spot


def shown(row):
    """A row as it can be compared: entities by their identity."""
    return tuple(_plain(value) for value in row)


def _plain(value):
    if hasattr(value, "_sa_instance_state"):
        return type(value).__name__, value._sa_instance_state.identity
    if value != value:  # NaN, which equals nothing
        return "NaN"
    return tuple(map(_plain, value)) if isinstance(value, (tuple, list)) else value


def everyway(make, lender, truth, size, params=None, jumps=True):
    """Walk a listing that `make` makes, by cursors of another process, and compare with `truth`.

    Forward, backward, by `walk`, from unaligned offsets, by keys and rows of pages; no page by the
    listing that made its cursor, as where several processes serve.
    """
    ask = {"params": params or {}}
    chunks = [truth[i : i + size] for i in range(0, len(truth), size)] or [[]]
    # Listings are dear to make: as many as take turns, whose first page is one of each kind.
    processes = [make() for _ in range(min(len(chunks) + 1, 3))]
    assert _chain(processes, lender, None, "next", len(chunks), ask) == chunks
    walked = [shown(row) for page in processes[0].walk(lender, size=size, **ask) for row in page]
    assert walked == truth
    if not jumps:
        return
    processes.reverse()
    assert _chain(processes, lender, Spot.end(), "prev", len(chunks), ask)[::-1] == chunks
    for start in {1, size // 2 + 1, max(len(truth) - size - 1, 0)}:
        page = processes[0].read(lender, Spot.offset(start), **ask)
        assert rows_of(page) == truth[start : start + size]
        if page.rows:
            rest = truth[start + len(page) :]
            following = []
            if page.next is not None:
                following = rows_of(processes[-1].read(lender, page.next, **ask))
            assert following == rest[:size]
            listing = processes[0]
            at = len(page) // 2
            behind = listing.read(lender, Spot.after(page.keys[at]), **ask)
            assert rows_of(behind) == truth[start + at + 1 :][:size]


def _chain(processes, lender, start, link, most, ask):
    pages, at = [], start
    for i in range(most + 1):
        page = processes[i % len(processes)].read(lender, at, **ask)
        pages.append(rows_of(page))
        at = getattr(page, link)
        if at is None:
            break
    return pages


def rows_of(page):
    return [shown(row) for row in page]
