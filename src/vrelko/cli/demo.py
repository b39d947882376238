"""vrelko demo: the Larkmere database, and the whole job on it."""

from __future__ import annotations

import shutil
from importlib.resources import files
from pathlib import Path
from typing import Any

from rich.console import Console
from sqlalchemy import create_engine
from sqlalchemy.exc import SQLAlchemyError

from vrelko.cli.drift_tables import show_drift
from vrelko.cli.plan_summary import show_summary
from vrelko.cli.tables import console, show_facts, show_measurement
from vrelko.cli.workflows import progress_bar, study, write_report
from vrelko.errors import DatabaseError
from vrelko.larkmere.generate import build
from vrelko.measuring.plans import plan
from vrelko.pagesfile.load import load
from vrelko.surveying.survey import survey


def run_demo(folder: Path, rows: int, walks: int, quiet: bool) -> dict[str, Any]:
    """Build the database and the pages file, survey, plan, measure, walk and report.

    Raises DatabaseError when the folder cannot hold them.
    """
    out = Console(quiet=True) if quiet else console()
    database, pages_path = _prepare(folder, rows, out)
    pages = load(pages_path)
    # All of one file, so that indexes are advised for them together.
    listings = list(pages.values())

    _step(out, "1", "survey", "what the database knows about its tables, without scanning them")
    facts = survey(pages.engine, listings)
    if not quiet:
        show_facts(facts, brief=True)
    plans = list(plan(listings, facts, engine=pages.engine))
    studies = []
    # Measured before anything is printed, so that the output reads as one piece.
    for one in plans:
        with progress_bar(f"measuring and walking {one.listing}", walks) as advance:
            studies.append(study(pages.engine, one, walks, 1, advance))

    if not quiet:
        _step(out, "2", "plan", "what each strategy costs, and which to use")
        for one in plans:
            show_summary(one, str(pages_path))
        _step(out, "3", "measure", "the planned pages, run on the database")
        for found in studies:
            show_measurement(found.measurement, brief=True)
        _step(out, "4", "drift", "readers page on while rows are inserted and deleted")
        for found in studies:
            # One table shows how it looks; the sentences say the rest.
            show_drift(found.drift, brief=found is not studies[0])
    _step(out, "5", "report", "every figure and plot in one file")
    report = write_report(studies, folder / "report.html")
    # Paths are for copying: a break in them would be copied too.
    out.print(f"report    {report}\ndatabase  {database}\npages     {pages_path}", soft_wrap=True)
    out.print(f"\nSee the pages:      vrelko serve --demo {folder}", soft_wrap=True)
    out.print("Your own database:  vrelko draft DATABASE -o pages.toml")
    out.print("                    vrelko plan DATABASE TABLE --order=-created_at")
    pages.engine.dispose()
    return {
        "database": str(database),
        "pages": str(pages_path),
        "report": str(report),
        "facts": facts.as_dict(),
        "listings": [found.as_dict() for found in studies],
    }


def _prepare(folder: Path, rows: int, out: Console) -> tuple[Path, Path]:
    """Make database and pages file; a database of an earlier demo is made anew."""
    database, pages = folder / "larkmere.db", folder / "pages.toml"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        # Renamed when it is whole: a demo that was broken off leaves no half database behind.
        unfinished = folder / "larkmere.db.unfinished"
        unfinished.unlink(missing_ok=True)
        engine = create_engine(f"sqlite:///{unfinished}")
        out.print(f"Building the Larkmere database of {rows:,} captures")
        with progress_bar("captures", rows) as advance:
            build(engine, rows, progress=advance)
        engine.dispose()
        # (On every system: rename refuses a target that is there on some.)
        shutil.move(unfinished, database)
        # A file that somebody has changed since is theirs.
        if not pages.exists():
            text = files("vrelko.larkmere").joinpath("pages.toml").read_text(encoding="utf-8")
            pages.write_text(text, encoding="utf-8")
    except (OSError, SQLAlchemyError) as error:
        raise DatabaseError(
            f"the demo cannot be built in {str(folder)!r}: {error}",
            "Choose another place with --folder",
            "demo-folder",
        ) from error
    return database.resolve(), pages.resolve()


def _step(out: Console, number: str, title: str, text: str) -> None:
    out.print()
    out.rule(f"[bold]{number} · {title}[/]: {text}", align="left", style="dim")
