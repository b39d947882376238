"""Studies as one self-contained HTML file."""

from __future__ import annotations

from collections.abc import Sequence

from jinja2 import Environment, PackageLoader, StrictUndefined

from vrelko.core.number_format import (
    render_bytes,
    render_count,
    render_many,
    render_ms,
    render_rare,
)
from vrelko.planning.conclusion import conclude, reasons_of
from vrelko.reporting.drift_figures import draw_clean, draw_pages, draw_strategies
from vrelko.reporting.figures import COLOURS, draw_work
from vrelko.reporting.study import RATE_FACTORS, Study


def render_report(studies: Sequence[Study]) -> str:
    """Return studies as HTML: verdicts, tables and figures in one file, nothing fetched."""
    # Strict, so that a template's misspelt name fails here rather than leaving a gap in a report.
    environment = Environment(
        loader=PackageLoader("vrelko.reporting", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(
        count=render_count,
        many=render_many,
        size=render_bytes,
        ms=render_ms,
        mean=render_rare,
        sentence=_sentence,
    )
    environment.globals.update(conclude=conclude, reasons_of=reasons_of)
    drawn = [(study, draw_work(study), _drift_figures(study)) for study in studies]
    return environment.get_template("report.html.j2").render(studies=drawn, colours=COLOURS)


def _drift_figures(study: Study) -> dict[str, str]:
    found = {"strategies": draw_strategies(study.drift), "pages": draw_pages(study.drift)}
    if study.clean:
        found["clean"] = draw_clean(study.clean, RATE_FACTORS)
    return found


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:]
