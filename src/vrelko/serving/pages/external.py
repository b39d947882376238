"""Statements that others run themselves, and the page that their results make."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Select

from vrelko.core.arithmetic import offset_of
from vrelko.core.spot import Spot
from vrelko.engines.registry import dialect_named
from vrelko.errors import PageError
from vrelko.serving.pages.page import CursorWriter, Page
from vrelko.serving.pages.request import BoundRequest
from vrelko.serving.pages.rows import PageReader
from vrelko.serving.settings import Settings
from vrelko.serving.variants.moved import Watched
from vrelko.serving.variants.runner import Runner
from vrelko.sql.parameters import LIMIT, OFFSET, key_parameters
from vrelko.sql.rows import Cutter


class GivenResults(Runner):
    """Hands out results that were had elsewhere, where a page would run a statement."""

    def __init__(self, results: Sequence[Any]) -> None:
        super().__init__(None, {})
        self._results = list(results)

    def fetch(
        self,
        select: Select[Any],
        cutter: Cutter | None,
        ours: Mapping[str, Any],
        apart: Callable[[Any], Any] | None = None,
        variant: Watched | None = None,
    ) -> tuple[Sequence[Any], Sequence[Any]]:
        """Return the rows of the next result, none where no more were given."""
        if not self._results:
            return [], []
        result = self._results.pop(0)
        # As when the statement is run here: a joined collection repeats its entity.
        result = result if apart is None else result.unique(apart)
        if cutter is None:
            rows = list(result.all())
            return rows, rows
        return cutter.split(result)


def spell_out(
    settings: Settings,
    at: Spot | None,
    dialect: str,
    params: Mapping[str, Any] | None,
    size: object,
    order: str | None,
) -> tuple[Select[Any], ...]:
    """Return the selects of a page; see `Listing.statements`."""
    # No connection: whoever runs the statements has one, and no catalog can be asked here.
    opened = _open(settings, Runner(None, {}), dialect, params, order, None)
    spot, rows = opened.spot_of(at), settings.sizes.check(size)
    variant = opened.variant
    values: dict[str, Any] = {**settings.steady.settled(opened.given), LIMIT: rows + 1}
    if spot.kind in ("number", "offset"):
        at_row = spot.at or 0
        values[OFFSET] = offset_of(at_row, rows) if spot.kind == "number" else at_row
        selects: tuple[Select[Any], ...] = (variant.offset(),)
    elif spot.key is not None:
        values |= key_parameters(spot.key)
        selects = variant.seek(spot.key, spot.kind == "before", spot.near)
    else:
        selects = variant.edge(spot.kind == "end")
    return tuple(select.params(values) for select in selects)


def gather(
    settings: Settings,
    results: Sequence[Any],
    at: Spot | None,
    dialect: str,
    params: Mapping[str, Any] | None,
    size: object,
    order: str | None,
    scope: object,
) -> Page:
    """Return the page that results make; see `Listing.page_of`."""
    if not isinstance(results, (list, tuple)) or not all(hasattr(r, "all") for r in results):
        raise PageError(
            "results must be a list of what connection.execute(…) returned, got "
            f"{type(results).__name__}",
            "Pass [connection.execute(select) for select in listing.statements(…)]",
            "results-kind",
        )
    opened = _open(settings, GivenResults(results), dialect, params, order, scope)
    spot, rows = opened.spot_of(at), settings.sizes.check(size)
    # At the start it needs another statement, which nobody here can run.
    if spot.fill:
        raise PageError(
            "the page behind a cursor cannot be built from results of your own",
            "Give Spot.after(key), Spot.before(key), a number or an offset",
            "spot-own",
        )
    batch = PageReader(opened.runner, opened.variant, rows).read(spot, None)
    # Whoever goes back came from a row that follows the page.
    if spot.kind == "before":
        batch = replace(batch, after=True)
    cursors = CursorWriter(opened.write, opened.variant, False, settings.kind == "grid")
    return Page(batch, rows, spot, cursors, asked=())


def _open(
    settings: Settings,
    runner: Runner,
    dialect: str,
    params: Mapping[str, Any] | None,
    order: str | None,
    scope: object,
) -> BoundRequest:
    variant, values, print_ = settings.variants.open(
        settings.name, dialect_named(dialect), None, params, order, scope
    )
    return BoundRequest(
        settings=settings,
        lender=None,
        variant=variant,
        given=values,
        fingerprint=print_,
        runner=runner,
    )
