"""Reading the rows of a page from where its spot says."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from vrelko.core.arithmetic import Total, check_offset, offset_of, page_count
from vrelko.core.set_filters import FEW_VALUES, MOST_VALUES, reads_branches
from vrelko.core.spot import Spot
from vrelko.errors import ListingError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.digests import digest_of, split_digests
from vrelko.serving.variants.grouping import BOUND, FROM, Grouping
from vrelko.serving.variants.row_keys import stuck
from vrelko.serving.variants.runner import Runner
from vrelko.serving.variants.variant import Variant
from vrelko.sql.entities import fanned_out
from vrelko.sql.parameters import LIMIT, OFFSET, key_parameters
from vrelko.sql.set_filters import value_parameters

_NOTHING: Mapping[str, Any] = {}


class PageReader:
    """Reads pages of one variant with one size."""

    __slots__ = (
        "_digests",
        "_overlap",
        "_runner",
        "_size",
        "_strategy",
        "_values",
        "_variant",
    )

    def __init__(
        self,
        runner: Runner,
        variant: Variant,
        size: int,
        *,
        strategy: str = "keyset",
        overlap: int | None = None,
        digests: bytes | None = None,
    ) -> None:
        self._overlap, self._digests = overlap, digests
        self._strategy = strategy
        self._values: list[Any] | None = None
        self._runner = runner
        self._variant = variant
        self._size = size

    def read(self, spot: Spot, count: Total | None) -> Batch:
        """Return the rows at a spot; `count` is the listing's total where it is known."""
        if spot.kind == "after":
            return self._behind(spot)
        if spot.kind == "start":
            return self._from_start()
        if spot.kind == "end":
            return self._from_end(count)
        if spot.kind == "before":
            return self._ahead(spot)
        offset = spot.at or 0
        if spot.kind == "number":
            offset = check_offset(offset_of(offset, self._size))
        # Only an exact total tells how far the end is; a capped one would misplace the
        # page.
        if self._strategy == "two-ended" and count is not None and count.kind == "exact":
            total = count.value or 0
            if offset > max(total - offset - self._size, 0):
                return self._from_far_end(offset, spot.rows, total)
        return self._from_offset(offset, spot.rows)

    def read_all(self, most: int) -> Batch:
        """Return every row, at most `most`; `after` tells that there were more."""
        # One more tells that there are more, and is not shown.
        rows, full = self._edge(False, most + 1)
        return Batch(
            rows=rows[:most],
            full=full[:most],
            before=False,
            after=len(rows) > most,
            offset=0,
            exact=True,
        )

    def _from_start(self) -> Batch:
        rows, full = self._edge(False, self._size + 1)
        more = len(rows) > self._size
        return Batch(
            rows=rows[: self._size],
            full=full[: self._size],
            before=False,
            after=more,
            offset=0,
            exact=True,
        )

    def _from_end(self, count: Total | None) -> Batch:
        """Read the last page: the remainder that numbering leaves, where the total is known."""
        known = count.value if count is not None and count.kind == "exact" else None
        want = self._size
        if known:
            # The last page is as long as numbering leaves it, so that "previous" from
            # it meets page numbers.
            want = known - offset_of(page_count(known, self._size), self._size)
        rows, full = self._edge(True, want + 1)
        more = len(rows) > want
        rows, full = rows[:want][::-1], full[:want][::-1]
        offset = known - len(rows) if known is not None else None if more else 0
        return Batch(
            rows=rows, full=full, before=more, after=False, offset=offset, exact=offset is not None
        )

    def _from_offset(self, offset: int, bound: int | None) -> Batch:
        if self._overlap is not None and self._digests is not None:
            return self._from_overlap(offset, self._overlap)
        want = self._size if bound is None else min(bound, self._size)
        # Rows whose key may be NULL, or that are merged, cannot be joined again by it.
        deferred = self._strategy == "deferred-join" and self._variant.joinable
        rows: Sequence[Any] = ()
        full: Sequence[Any] = ()
        if deferred:
            try:
                rows, full = self._run(
                    (self._variant.deferred(),), want + 1, {OFFSET: offset}, plain=True
                )
            except ListingError as error:  # so many rows, or two with one key: its key is none
                if error.code not in ("key-tied", "session-shards"):
                    raise
                self._variant.joinable = False
            if self._variant.repeats(full):
                self._variant.joinable = False
        # Read as they are, wherever the key does not tell rows apart.
        if not deferred or not self._variant.joinable:
            rows, full = self._run((self._variant.offset(),), want + 1, {OFFSET: offset})
        more = len(rows) > want
        # An empty page past the end may have rows ahead of it, or the listing may be
        # empty.
        before = offset > 0 and (bool(rows) or self.any(backward=False))
        return Batch(
            rows=rows[:want], full=full[:want], before=before, after=more, offset=offset, exact=True
        )

    def _from_overlap(self, offset: int, overlap: int) -> Batch:
        """Ask again for rows ahead of an offset, and leave out those that were shown."""
        # Rows that slipped ahead since the last page are within the overlap, if it is large enough.
        begin = max(offset - overlap, 0)
        want = offset + self._size - begin
        found = self._run((self._variant.offset(),), want + 1, {OFFSET: begin})
        more = len(found[0]) > want
        # Rows may have moved since: they are told apart by digests of their keys, not by
        # their places.
        known = set(split_digests(self._digests or b""))
        kept = [
            (row, whole)
            for row, whole in zip(found[0][:want], found[1][:want], strict=True)
            if digest_of(self._variant, whole) not in known
        ]
        return Batch(
            rows=[row for row, _ in kept],
            full=[whole for _, whole in kept],
            before=True,
            after=more,
            offset=offset,
            exact=False,
        )

    def _from_far_end(self, offset: int, bound: int | None, total: int) -> Batch:
        """Read a page by its distance from the end, where that is the nearer one."""
        want = min(self._size if bound is None else min(bound, self._size), total - offset)
        # The page begins behind the end, where the total was counted a moment ago.
        if want <= 0:
            return Batch(rows=[], full=[], before=total > 0, after=False, offset=offset, exact=True)
        # Counted from the end, in the reversed order: the rows behind the page are those skipped.
        behind = total - offset - want
        statement = self._variant.offset(backward=True)
        rows, full = self._run((statement,), want, {OFFSET: behind})
        return Batch(
            rows=rows[::-1],
            full=full[::-1],
            before=offset > 0,
            after=behind > 0,
            offset=offset,
            exact=True,
        )

    def _behind(self, spot: Spot) -> Batch:
        # A key is taken by its values here, since a caller may have given a row.
        key = self._variant.key_of(spot.key or ())
        rows, full = self._seek(key, False, self._size + 1, spot.near)
        # A row behind the key proves nothing ahead of it but the row of the key itself,
        # which may be gone; readers came from there, so "previous" stays.
        before = bool(rows) or self.any(backward=True)
        return _cut_behind(rows, full, before, self._size, spot)

    def _ahead(self, spot: Spot) -> Batch:
        key = self._variant.key_of(spot.key or ())
        rows, full = self._seek(key, True, self._size + 1, spot.near)
        more = len(rows) > self._size
        # Turning back to the start shows a full first page rather than the few rows ahead
        # of the key.
        if spot.fill and len(rows) < self._size:
            return self._from_start()
        rows, full = rows[: self._size][::-1], full[: self._size][::-1]
        if rows:
            # The row that the reader came from may be gone, so whether rows follow is
            # asked anew.
            after = bool(self._seek(self._variant.key_from(full[-1]), False, 1)[0])
        else:
            after = self.any(backward=False)
        offset: int | None = 0
        if more:
            offset = None if spot.at is None else max(spot.at - len(rows), 0)
        return Batch(rows=rows, full=full, before=more, after=after, offset=offset, exact=not more)

    def any(self, backward: bool) -> bool:
        """Tell whether there is any row at all, looking from the start or from the end."""
        return bool(self._edge(backward, 1)[0])

    def _seek(
        self, key: tuple[Any, ...], backward: bool, want: int, near: bool = False
    ) -> tuple[Sequence[Any], Sequence[Any]]:
        variant = self._variant
        values = None if variant.among is None else self._set_values()
        if values is None and variant.grouping is not None:
            found = self._by_groups(variant.grouping, key, backward, want)
            if found is not None:
                variant.check_advance(key, found[1], backward)
                return found
        if values is None:
            found = self._run(variant.seek(key, backward, near), want, key_parameters(key))
        else:
            selects = variant.branches(len(values), key, backward)
            ours = {**key_parameters(key), **value_parameters(values)}
            found = self._run(selects, want, ours, plain=True)
            if variant.repeats(found[1]):
                variant.among = None
                return self._seek(key, backward, want, near)
        variant.check_advance(key, found[1], backward)
        if len(found[0]) < want and variant.ends_unseen[backward]:
            self._runner.check_end(variant)
        return found

    def _edge(self, backward: bool, want: int) -> tuple[Sequence[Any], Sequence[Any]]:
        values = self._set_values()
        if values is None and self._variant.grouping is not None:
            found = self._by_groups(self._variant.grouping, None, backward, want)
            if found is not None:
                return found
        if values is None:
            return self._run(self._variant.edge(backward), want)
        selects = self._variant.branches(len(values), None, backward)
        found = self._run(selects, want, value_parameters(values), plain=True)
        if self._variant.repeats(found[1]):
            self._variant.among = None
            return self._edge(backward, want)
        return found

    def _by_groups(
        self, grouping: Grouping, key: tuple[Any, ...] | None, backward: bool, want: int
    ) -> tuple[Sequence[Any], Sequence[Any]] | None:
        """Return rows up to the end of the group that the last one stands in.

        None where nothing bounds them, or where rows went between the two statements: then they
        are read as ever.
        """
        variant, begins = self._variant, key is not None
        start = {} if key is None else {FROM: key[grouping.position]}
        # A NULL bounds no range of the first term: the plain statements place NULLs.
        if None in start.values():
            return None
        ours = {**start, LIMIT: 1, OFFSET: want - 1}
        rows, _ = self._runner.fetch(grouping.bound(backward, begins), None, ours)
        # No row that far behind: the page is the last one, and needs no bound.
        if not rows or rows[0][0] is None:
            return None
        selects = variant.edge(backward) if key is None else variant.seek(key, backward, False)
        bounded = [grouping.apply(one, backward, begins) for one in selects]
        values = {**start, BOUND: rows[0][0], **({} if key is None else key_parameters(key))}
        found = self._run(bounded, want, values)
        # Rows deleted between the two statements would leave the page short.
        return found if len(found[0]) >= want else None

    def _set_values(self) -> Sequence[Any] | None:
        """Return the values of a set filter that is read a branch a value, None where none is."""
        among = self._variant.among
        if among is None:
            return None
        if self._values is None:
            # A subquery's values are asked for by themselves: a branch needs them one by one.
            if among.rows is not None:
                rows, _ = self._runner.fetch(among.rows.limit(MOST_VALUES + 1), None, {})
                found: Iterable[Any] = [row[0] for row in rows]
            else:
                # The values stand in the select, or come with the request.
                found = among.values
                if among.name is not None:
                    found = self._runner.params.get(among.name, found)
            # A value given twice would have its branch twice, and its rows come
            # twice.
            self._values = list(dict.fromkeys(one for one in found if one is not None))
        if not among.tells_apart(self._values):
            return None
        return self._values if self._reads_branches(among.column, self._values) else None

    def _reads_branches(self, column: Any, values: Sequence[Any]) -> bool:
        """Tell whether a set of values is read by branches, statistics asked where that matters."""
        variant, total, share = self._variant, 0.0, 0.0
        if FEW_VALUES < len(values) <= MOST_VALUES:
            total, distinct = variant.spread_of(column, self._runner)
            share = min(len(values) / distinct, 1.0) if distinct else 0.0
        # The same rule as the planner's, so that pages are read as they were planned.
        engine = variant.source.capabilities.engine
        return reads_branches(engine, len(values), self._size + 1, total, share)

    def _run(
        self,
        selects: Sequence[Any],
        want: int,
        ours: Mapping[str, Any] | None = None,
        plain: bool = False,
    ) -> tuple[Sequence[Any], Sequence[Any]]:
        """Run statements one after the other until `want` rows are there.

        `plain`: the limit stands inside the statement, and is filled in as a parameter.
        """
        variant = self._variant
        rows: Sequence[Any] = ()
        full: Sequence[Any] = ()
        values = ours or _NOTHING
        for select in selects:
            # What later statements may still give depends on the rows found so far,
            # so their limit is a parameter.
            inside = rows or plain or variant.nested
            limited = select if inside else variant.limited(select, want)
            if limited is select:
                values = {**values, LIMIT: want - len(rows)}
            part, part_full = self._runner.fetch(
                limited, variant.cutter, values, variant.apart, variant
            )
            if not rows:
                rows, full = part, part_full
            else:
                rows, full = [*rows, *part], [*full, *part_full]
            if len(rows) >= want:
                break
        # More than the limit: something ran the statement on several databases.
        if len(rows) > want and variant.apart is None and variant.record is not None:
            raise fanned_out()
        # The row fetched beyond the page shows whether it ties with the last one, which
        # no cursor could tell apart.
        if len(full) == want > 1:
            variant.check_apart(full[-2], full[-1])
        return rows, full


def read_behind(runner: Runner, variant: Variant, spot: Spot, size: int) -> Batch | None:
    """Return the rows behind a key where one statement shows them, None where that takes more.

    They are those of a `PageReader`, which most pages do without: that spares each about 5 µs.
    """
    key = spot.key or ()
    selects = variant.seek(key, False, spot.near)
    if variant.among is not None or variant.nested or len(selects) != 1:
        return None
    if variant.grouping is not None:
        return None
    # A size that is not kept yet is filled in as a parameter, which PageReader does.
    limited = variant.limited(selects[0], size + 1)
    if limited is selects[0]:
        return None
    values = key_parameters(key)
    rows, full = runner.fetch(limited, variant.cutter, values, variant.apart, variant)
    if len(rows) > size + 1 and variant.apart is None:
        raise fanned_out()
    if full:
        variant.check_page(key, full, size)
    if len(rows) <= size and variant.ends_unseen[0]:
        runner.check_end(variant)
    before = bool(rows) or PageReader(runner, variant, size).any(backward=True)
    return _cut_behind(rows, full, before, size, spot)


def _cut_behind(
    rows: Sequence[Any], full: Sequence[Any], before: bool, size: int, spot: Spot
) -> Batch:
    shown = rows[:size]
    kept = shown if full is rows else full[:size]
    return Batch(
        rows=shown, full=kept, before=before, after=len(rows) > size, offset=spot.at, exact=False
    )


def prove_keys(runner: Runner, variant: Variant, full: Sequence[Any]) -> None:
    """Ask once whether the database finds a row by its own key, for types that were never tried.

    Raises ListingError where it does not. That it does proves this row alone.
    """
    if not full:
        return
    key = variant.key_from(full[-1])
    statement, values = variant.key_by_itself(key)
    rows, _ = runner.fetch(statement, None, values)
    if not rows:
        raise stuck(str(variant.order))
    variant.doubtful = False


def settle_total(batch: Batch, kind: str, counted: Total | None) -> Batch:
    """Return the batch with its total: counted, or known because the page reached the end."""
    if kind == "none":
        return batch
    # Nothing follows and all ahead are numbered: the last row's number is the total.
    ends = not batch.after and batch.exact and batch.offset is not None
    if ends and (batch.rows or batch.offset == 0):
        return replace(batch, total=Total((batch.offset or 0) + len(batch.rows), "exact"))
    return replace(batch, total=counted)
