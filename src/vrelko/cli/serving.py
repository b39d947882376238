"""The command `serve`: listings over HTTP, and the demo page."""

from __future__ import annotations

import json
import socket
import threading
import webbrowser
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from vrelko.errors import DatabaseError, PagesFileError


@click.command()
@click.argument("pages", type=click.Path(), metavar="[PAGES]", required=False)
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to listen on.")
@click.option(
    "--port", type=click.IntRange(0, 65_535), default=8_080, show_default=True,
    help="Port to listen on; 0 takes a free one.",
)  # fmt: skip
@click.option(
    "--demo", "folder", type=click.Path(file_okay=False), default=None, metavar="FOLDER",
    help="Serve the demo page on a copy of the database that `vrelko demo` left there.",
)  # fmt: skip
@click.option("--open", "opens", is_flag=True, help="Open it in the browser.")
@click.option("--json", "as_json", is_flag=True, help="Print the OpenAPI description, not serve.")
def serve(
    pages: str | None,
    host: str,
    port: int,
    folder: str | None,
    opens: bool = False,
    as_json: bool = False,
) -> None:
    """Serve the listings of a pages file over HTTP, or the demo page.

    Each listing answers at /NAME as JSON or as a document, with links to other pages; /NAME/export
    streams it; /openapi.json describes all. The database is only read. Ends with Ctrl-C.
    """
    if (pages is None) == (folder is None):
        raise click.UsageError("Name a pages file, or a folder with --demo")
    try:
        import uvicorn

        import vrelko.web.application  # noqa: F401
    except ImportError as error:
        raise PagesFileError(
            f"serving needs {error.name}, which is not installed",
            'Install it with: pip install "vrelko[web]"',
            "web-extra",
        ) from error
    app, close = _demo(Path(str(folder))) if pages is None else _listings(pages)
    if as_json:
        _print_description(app)
        close()
        return
    port = port or _free_port(host)
    if opens:
        threading.Timer(1.0, webbrowser.open, [f"http://{host}:{port}/"]).start()
    click.echo(f"http://{host}:{port}/  (Ctrl-C ends it)", err=True)
    uvicorn.run(app, host=host, port=port, log_level="warning")


def _free_port(host: str) -> int:
    with socket.socket() as probe:
        probe.bind((host, 0))
        return int(probe.getsockname()[1])


def _listings(pages: str) -> tuple[Any, Callable[[], None]]:
    from vrelko.serving.pages_file import load
    from vrelko.web.application import make_app
    from vrelko.web.wire import Wire

    loaded = load(pages)
    wires = {name: Wire(**settings) for name, settings in loaded.web.items()}
    app = make_app(dict(loaded), loaded.engine, title=Path(pages).stem, wires=wires)
    return app, loaded.close


def _demo(folder: Path) -> tuple[Any, Callable[[], None]]:
    from vrelko.web.demo.live import Live
    from vrelko.web.demo.site import make_demo

    database = folder / "larkmere.db"
    if not database.is_file():
        raise DatabaseError(
            f"there is no demo database in {str(folder)!r}", "Make it with: vrelko demo",
            "demo-missing",
        )  # fmt: skip
    live = Live(database)
    return make_demo(live), live.close


def _print_description(app: Any) -> None:
    from vrelko.web.application import describe_app

    click.echo(json.dumps(describe_app(app), indent=2))
