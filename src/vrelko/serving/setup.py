"""Setting up a listing: its arguments checked one by one and together, and what follows of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Select

from vrelko.core.arithmetic import Sizes
from vrelko.core.outline import KINDS, TOTALS, check_choice
from vrelko.core.periods import Periods
from vrelko.core.strategies import RECORDS, SERVED
from vrelko.errors import ListingError
from vrelko.serving.arguments import check_arguments
from vrelko.serving.cursors.book import CursorBook
from vrelko.serving.cursors.encryption import load_cipher
from vrelko.serving.settings import Settings
from vrelko.serving.steady.settings import UNSTEADY, Steady
from vrelko.serving.variants.store import VariantStore
from vrelko.sql.filters import Filters
from vrelko.sql.outlines import hidden_names
from vrelko.sql.select_kinds import refuse_selects


def make_settings(select: Select[Any], arguments: Mapping[str, Any]) -> Settings:
    """Return the settings of a listing made with these arguments, by name.

    What is left out follows of the rest: a grid counts up to a cap, choices are served whole.
    Raises ListingError and OrderError for what cannot be paged.
    """
    check_arguments(arguments)
    kind, strategy, total = _check_choices(arguments)
    # One object for all that are not steadied: requests tell by identity that there is nothing to
    # do.
    steady: Steady = arguments["steady"] or UNSTEADY
    steady.check(strategy, kind)
    refuse_selects(select)
    variants = _make_variants(select, arguments, steady)
    anchor_file, secrets = arguments["anchor_file"], arguments["secrets"]
    # All rows at once have no cursors, so no key can be read off one.
    sealed = strategy != "whole" and _must_seal(variants, arguments["expose"], bool(secrets))
    return Settings(
        name=arguments["name"] or "+".join(variants.described.table_names),
        kind=kind,
        variants=variants,
        sizes=arguments["sizes"] or Sizes(),
        total=total,
        cap=arguments["cap"],
        count=arguments["count"],
        count_ms=arguments["count_ms"],
        over_cap=arguments["over_cap"],
        strategy=strategy,
        by_offset=RECORDS[strategy].by_offset,
        max_offset=arguments["max_offset"],
        steady=steady,
        jumps=arguments["jumps"],
        anchor_file=None if anchor_file is None else str(anchor_file),
        book=CursorBook(secrets, arguments["expires_s"]),
        sealed=sealed,
    )


def _check_choices(arguments: Mapping[str, Any]) -> tuple[str, str, str]:
    """Return the kind, the strategy and the sort of total, once all choices are known to be ones.

    Raises ListingError for the first that is not, and for those that exclude each other.
    """
    kind = arguments["kind"]
    check_choice(kind, KINDS, "kind")
    # Only a grid shows how many rows there are; others would count for nobody.
    total = arguments["total"] or ("capped" if kind == "grid" else "none")
    check_choice(total, TOTALS, "total")
    strategy = arguments["strategy"] or ("whole" if kind == "choices" else "keyset")
    check_choice(strategy, SERVED, "strategy")
    check_choice(arguments["count"], ("each", "once"), "count")
    check_choice(arguments["jumps"], ("offset", "anchors"), "jumps")
    _check_jumps(arguments["jumps"], strategy, kind, arguments["anchor_file"])
    check_choice(arguments["over_cap"], ("error", "truncate"), "over_cap")
    # A cap of 0 counts nothing, which total="none" says plainly.
    cap = arguments["cap"]
    if cap < 1:
        raise ListingError(f"cap must be at least 1, got {cap}", "Give at least 1", "listing-cap")
    return kind, strategy, total


def _make_variants(
    select: Select[Any], arguments: Mapping[str, Any], steady: Steady
) -> VariantStore:
    """Return the store of the listing's variants, which describes its select."""
    periods = arguments["periods"]
    return VariantStore(
        select,
        orders=arguments["orders"],
        unique=arguments["unique"],
        filters=Filters(select, arguments["filters"] or {}, arguments["search"]),
        settle=steady.settle,
        periods=Periods(periods) if isinstance(periods, str) else periods,
    )


def _check_jumps(jumps: str, strategy: str, kind: str, anchor_file: object) -> None:
    """Raise ListingError for jumps by anchors where nothing would go by them."""
    # A feed has no page numbers, and other strategies reach any of theirs by themselves.
    if jumps == "anchors" and (strategy != "keyset" or kind != "grid"):
        raise ListingError(
            f"jumps by anchors are for grids served by keyset, not for a {kind} by {strategy}",
            'Give kind="grid" and leave strategy out, or leave jumps out',
            "listing-choice",
        )
    if anchor_file is not None and jumps != "anchors":
        raise ListingError(
            f"anchor_file={str(anchor_file)!r} is for jumps by anchors, not by {jumps}",
            'Say jumps="anchors", or leave it out',
            "listing-choice",
        )


def _must_seal(variants: VariantStore, expose: Sequence[str] | bool, secret: bool) -> bool:
    """Tell whether keys are encrypted in cursors. Raises ListingError where they cannot be."""
    # The user says that all of the key may be seen.
    if expose is True:
        return False
    shown = () if expose is False else tuple(expose)
    hidden = [name for name in hidden_names(variants.described) if name not in shown]
    if hidden and not secret:
        raise ListingError(
            f"cursors would show {', '.join(map(repr, hidden))}, which the select does not",
            f"Select it, give secrets=[…] to encrypt it, or say expose={hidden!r}",
            "key-hidden",
        )
    # Now, when the application starts, not when the first page is served.
    if hidden:
        load_cipher()
    return bool(hidden)
