"""Studies as one self-contained HTML file."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from jinja2 import Environment, PackageLoader, StrictUndefined

from vrelko.core.numbers import render_bytes, render_count, render_ms
from vrelko.reporting.figures import COLOURS, draw_drift, draw_work

if TYPE_CHECKING:
    from vrelko.reporting.study import Study


def render_report(studies: Sequence[Study]) -> str:
    """Return studies as HTML: verdicts, tables and figures in one file, nothing fetched."""
    environment = Environment(
        loader=PackageLoader("vrelko.reporting", "templates"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(count=render_count, size=render_bytes, ms=render_ms)
    drawn = [(study, draw_work(study), draw_drift(study)) for study in studies]
    return environment.get_template("report.html.j2").render(studies=drawn, colours=COLOURS)
