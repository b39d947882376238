"""The verdict: which strategy to take, by needs first and by cost then, with every reason."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from vrelko.core.cost.rates import Time
from vrelko.core.cost.work import Work
from vrelko.core.drift.expectation import DriftExpectation
from vrelko.core.number_format import render_bytes, render_many, render_mean, render_ms
from vrelko.core.outline import Outline
from vrelko.core.reader_load import ANCHORS, Burden
from vrelko.core.strategies import STRATEGIES, Strategy
from vrelko.core.workload import Needs

WHOLE_ROWS = 10_000
"""Beyond this many rows a listing is not loaded whole, whatever it costs."""

_NEAR, _NEAR_MS = 1.1, 0.2
"""A difference below a tenth, or below so many milliseconds, decides nothing by itself."""


@dataclass(frozen=True, slots=True)
class Rung:
    """One depth of a candidate's ladder: a page number, its work, and the time with bounds."""

    page: int
    offset: int
    work: Work
    time: Time
    cold_ms: float


@dataclass(frozen=True, slots=True)
class Candidate:
    """One strategy: its work by page, what its readers pay and suffer, and whether it fits.

    `burden` weighs pages by the readers' depths over all variants in use. `against` holds why it is
    not taken, empty for the verdict's own.
    """

    strategy: Strategy
    ladder: tuple[Rung, ...]
    burden: Burden
    drift: DriftExpectation
    against: tuple[str, ...] = ()
    sql: tuple[str, ...] = ()

    @property
    def mean_ms(self) -> float:
        """Milliseconds of the database for a page, on the mean."""
        return self.burden.mean.ms


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """The strategy to take, its reasons, and for every other one why not.

    `fitting` are the strategies that meet every need, whatever they cost; `runner_up` is the next
    cheapest of them, at `behind` times the cost. Where none fits,
    `give_up` says which need stands in the way of which strategy.
    """

    strategy: Strategy
    reasons: tuple[str, ...]
    refused: Mapping[Strategy, tuple[str, ...]]
    meets_needs: bool
    runner_up: Strategy | None = None
    behind: float | None = None
    give_up: tuple[str, ...] = ()
    fitting: tuple[Strategy, ...] = ()


def decide(candidates: Sequence[Candidate], outline: Outline, rows: float, needs: Needs) -> Verdict:
    """Return the verdict over candidates for a listing of `rows` rows."""
    against: dict[Strategy, tuple[str, ...]] = {}
    against = {c.strategy: tuple(_against(c, outline, rows, needs)) for c in candidates}
    fitting = [c for c in candidates if not against[c.strategy]]
    # Where nothing fits something must still be served: what does the least harm.
    usual: Strategy = "whole" if outline.kind == "choices" else "keyset"
    pool = fitting or [c for c in candidates if c.strategy == usual]
    best = min(pool, key=lambda c: (_robust(c), STRATEGIES.index(c.strategy)))
    # Among those that cost about as much, repeats and misses decide.
    near = [c for c in pool if _is_near(c, best)]
    best = min(near, key=lambda c: (*_steadiness(c), _robust(c)))
    # They fit as well, so all that speaks against them is their price.
    others = sorted((c for c in pool if c is not best), key=lambda c: c.mean_ms)
    for c in others:
        against[c.strategy] = (_dearer(c, best),)
    reasons = tuple(_for(best, candidates, needs))
    give_up: tuple[str, ...] = ()
    if not fitting:
        reasons = (*(f"no strategy meets every need: {why}" for why in against[usual]), *reasons)
        give_up = tuple(_give_up(candidates, outline, rows, needs))
    refused = {name: why for name, why in against.items() if name != best.strategy}
    # How close the choice was tells how much a wrong estimate would matter.
    second = others[0] if others else None
    return Verdict(
        strategy=best.strategy,
        reasons=reasons,
        refused=refused,
        meets_needs=bool(fitting),
        runner_up=second.strategy if second else None,
        behind=second.mean_ms / best.mean_ms if second and best.mean_ms > 0 else None,
        give_up=give_up,
        fitting=tuple(one.strategy for one in fitting),
    )


def _robust(candidate: Candidate) -> float:
    """Return what a strategy costs its readers, in milliseconds: mean, p95 and worst depth alike.

    The geometric mean of the three, so that no single one decides by its size alone.
    """
    burden = candidate.burden
    worst = max(burden.worst_ms, burden.mean.ms)
    # A geometric mean: a worst page of a second must not hide behind a mean of a millisecond, nor
    # the other way round.
    product = max(burden.mean.ms, 1e-6) * max(burden.p95_ms, 1e-6) * max(worst, 1e-6)
    return float(product ** (1 / 3))


def _is_near(candidate: Candidate, best: Candidate) -> bool:
    """Tell whether a strategy costs about as much as the best: in the mean, at p95 and at worst."""
    pairs = (
        (candidate.burden.mean.ms, best.burden.mean.ms),
        (candidate.burden.p95_ms, best.burden.p95_ms),
        (candidate.burden.worst_ms, best.burden.worst_ms),
    )
    return all(mine <= theirs * _NEAR or mine - theirs <= _NEAR_MS for mine, theirs in pairs)


def _steadiness(candidate: Candidate) -> tuple[float, int]:
    """Return what decides between strategies that cost alike: repeats and misses, then depth."""
    drift, name = candidate.drift, candidate.strategy
    # Rounded, so that a thousandth of a row does not outweigh what follows.
    suffered = 0.0 if name == "whole" else round(drift.repeats + drift.misses, 2)
    return suffered, {"keyset": 0, "whole": 1}.get(name, 2)


def _against(candidate: Candidate, outline: Outline, rows: float, needs: Needs) -> Iterator[str]:
    if outline.kind == "choices" and candidate.strategy != "whole":
        # A picker that lacks options is broken, however fast its pages come.
        yield "choices are all shown at once"
    drift, burden = candidate.drift, candidate.burden
    for name, seen, most in (
        ("repeats", drift.repeats, needs.repeats),
        ("misses", drift.misses, needs.misses),
    ):
        if most is not None and seen > most:
            often = f"about {seen:.2g} {name} per walk of {drift.pages} pages"
            # "0.0043 repeats" says nothing to anybody; one walk in 230 does.
            if seen < 0.01:
                often = f"{name} in about 1 of {round(1 / seen, -1):,.0f} walks"
            yield f"{often}; the limit is {most:g}"
    if needs.p95_ms is not None and burden.p95_ms > needs.p95_ms:
        yield f"{burden.p95_ms:.3g} ms at p95; the limit is {needs.p95_ms:g}"
    # Held against the dearest page number there is, which any reader may type.
    if needs.jump_ms is not None and burden.jump_ms > needs.jump_ms:
        yield f"a jump takes up to {_ms(burden.jump_ms)}; the limit is {needs.jump_ms:g}"
    if needs.exact_total and outline.total != "exact":
        told = "it shows no total" if outline.total == "none" else f"its total is {outline.total}"
        yield f"{told}; you want an exact one"
    if needs.memory_mb is not None and burden.memory_bytes > needs.memory_mb * 1e6:
        yield f"{burden.memory_bytes / 1e6:.1f} MB for all users, {needs.memory_mb:g} wanted"
    if candidate.strategy == "whole" and rows > WHOLE_ROWS:
        sent = candidate.ladder[0].work.bytes / 1e6
        yield f"sends all {rows:,.0f} rows ({sent:.1f} MB) to every reader"
    if candidate.strategy == "two-ended" and outline.kind != "grid":
        yield "it counts every row for each page, which only numbered pages are worth"


def _give_up(
    candidates: Sequence[Candidate], outline: Outline, rows: float, needs: Needs
) -> Iterator[str]:
    """Yield each single need whose loss would let a strategy in."""
    for name in ("repeats", "misses", "p95_ms", "jump_ms", "memory_mb"):
        if getattr(needs, name) is None:
            continue
        # One need at a time: that is the choice somebody has to make.
        eased: Needs = replace(needs, **{name: None})  # type: ignore[arg-type]
        # By the same rules as before, so that what is offered would really be taken.
        fit = [c for c in candidates if not any(True for _ in _against(c, outline, rows, eased))]
        if fit:
            best = min(fit, key=lambda c: c.mean_ms)
            now = {
                "repeats": best.drift.repeats,
                "misses": best.drift.misses,
                "p95_ms": best.burden.p95_ms,
                "jump_ms": best.burden.jump_ms,
                "memory_mb": best.burden.memory_bytes / 1e6,
            }[name]
            shown = f"{now:,.0f}" if now >= 100 else f"{now:.3g}"
            yield f"without {name} = {getattr(needs, name):g}, {best.strategy} fits at {shown}"


def _dearer(candidate: Candidate, best: Candidate) -> str:
    times = candidate.mean_ms / best.mean_ms if best.mean_ms > 0 else 1.0
    drift = candidate.drift
    harm = f"{_few(drift.repeats)} repeats and {_few(drift.misses)} misses per walk"
    if _is_near(candidate, best):
        return (
            f"costs about the same ({_ms(candidate.mean_ms)} against {_ms(best.mean_ms)} per "
            f"page); {harm}"
        )
    if times < _NEAR:
        return (
            f"costs {_ms(candidate.burden.p95_ms)} per page at p95 and "
            f"{_ms(candidate.burden.worst_ms)} at the deepest page, against "
            f"{_ms(best.burden.p95_ms)} and {_ms(best.burden.worst_ms)}; {harm}"
        )
    return (
        f"costs {times:.1f}× as much per page at the readers' depths "
        f"({_ms(candidate.mean_ms)} against {_ms(best.mean_ms)})"
    )


def _ms(value: float) -> str:
    return f"{render_ms(value)} ms"


def _few(value: float) -> str:
    """Return a mean count; one that is seen in no walk of a hundred is 0."""
    return "0" if value < 0.005 else render_mean(value)


def _for(best: Candidate, candidates: Sequence[Candidate], needs: Needs) -> Iterator[str]:
    first, last = best.ladder[0], best.ladder[-1]
    if best.strategy == "whole":
        sent = render_bytes(first.work.bytes)
        yield f"sends {render_many(round(first.work.rows), 'row')} ({sent}) in one statement"
        return
    few = "row or entry" if round(_walked(first.work)) == 1 else "rows or entries"
    if last.page == 1:
        yield f"reads {_walked(first.work):,.0f} {few} for the only page"
    else:
        yield (
            f"reads {_walked(first.work):,.0f} {few} for page 1 and "
            f"{_walked(last.work):,.0f} for page {last.page:,}, the last"
        )
    offset = next(c for c in candidates if c.strategy == "offset")
    drift = best.drift
    if best.strategy != "keyset":
        yield (
            f"readers see {_few(drift.repeats)} repeats and {_few(drift.misses)} misses per walk "
            f"of {drift.pages} pages"
        )
    if best.strategy == "keyset":
        deep = offset.ladder[-1]
        # Only where offset is clearly worse is it worth a line.
        if deep.time.ms > 1.5 * last.time.ms:
            yield f"offset reads {_walked(deep.work):,.0f} for page {deep.page:,}"
        yield (
            f"readers see {_few(drift.repeats)} repeats and {_few(drift.misses)} misses per walk; "
            f"by offset {_few(offset.drift.repeats)} and {_few(offset.drift.misses)}"
        )
        if best.burden.jumps_by or needs.jump:
            by = best.burden.jumps_by or "offset"
            often = "" if by == ANCHORS else ", once"
            yield f"jumps to a page number go by {by}{often}; the reader goes on by key"


def _walked(work: Work) -> float:
    return work.read
