"""The command `serve`: listings over HTTP, and the demo page."""

from __future__ import annotations

import asyncio
import json
import logging
import signal
import socket
import stat
import threading
import webbrowser
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vrelko.cli.needs import needs_extra
from vrelko.cli.options import described_of, listing_options
from vrelko.errors import DatabaseError, PageError

if TYPE_CHECKING:
    from vrelko.pagesfile.described import Described

# Names that only this machine can mean, so they are always answered.
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_EVERYWHERE = ("0.0.0.0", "::", "")


@click.command()
@click.argument("pages", type=click.Path(), metavar="[SOURCE]", required=False)
@click.argument("tables", nargs=-1, metavar="[TABLE]...")
@listing_options
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to listen on.")
@click.option(
    "--port",
    type=click.IntRange(0, 65_535),
    default=8_080,
    show_default=True,
    help="Port to listen on; 0 takes a free one.",
)
@click.option(
    "--allow-host",
    "allowed",
    multiple=True,
    metavar="NAME",
    help="A name by which requests may call this server, besides its address. May be repeated.",
)
@click.option(
    "--demo",
    "folder",
    type=click.Path(file_okay=False),
    default=None,
    metavar="FOLDER",
    help="Serve the demo page on a copy of the database that `vrelko demo` left there.",
)
@click.option("--open", "opens", is_flag=True, help="Open it in the browser.")
@click.option("--log", "log_requests", is_flag=True, help="Write a line for each request.")
@click.option("--log-values", is_flag=True, help="Write the values in addresses too.")
@click.option(
    "--pool",
    type=click.IntRange(1, 1_000),
    default=None,
    help="Connections to the database; otherwise the pages file's, or 15.",
)
@click.option(
    "--statement-ms",
    type=click.FloatRange(1, 3_600_000),
    default=None,
    help="Milliseconds a statement may take; otherwise the pages file's, or 10,000.",
)
@click.option(
    "--at-once",
    type=click.IntRange(1, 1_000),
    default=None,
    help="Requests of one listing under way at once; otherwise half of the pool, or 8.",
)
@click.option(
    "--grace-s",
    type=click.IntRange(0, 600),
    default=8,
    show_default=True,
    help="Seconds that requests under way may take when the server is asked to end.",
)
@click.option(
    "--json", "as_json", is_flag=True, help="Print the OpenAPI description instead of serving."
)
def serve(
    pages: str | None,
    tables: Sequence[str],
    host: str,
    port: int,
    folder: str | None,
    allowed: Sequence[str] = (),
    opens: bool = False,
    log_requests: bool = False,
    log_values: bool = False,
    pool: int | None = None,
    statement_ms: float | None = None,
    at_once: int | None = None,
    grace_s: int = 8,
    as_json: bool = False,
    **described: Any,
) -> None:
    """Serve the listings of a pages file over HTTP, tables or a query of a database, or the demo.

    SOURCE is a pages file, a database URL or the path of an SQLite file.
    Each listing answers at /NAME as JSON or as a document, with links to other pages; /NAME/export
    streams it; / lists them, /openapi.json describes them, /healthz tells whether the database
    answers, and /metrics counts. The database is only read. Ends with Ctrl-C.
    """
    # One of them says what is served; two, or none, say nothing.
    if (pages is None) == (folder is None):
        raise click.UsageError(
            "Name a pages file, a database with a TABLE, or a folder with --demo"
        )
    asked = described_of(described)
    if folder is not None and asked.given:
        raise click.UsageError(f"{asked.given[0]} describes a table's listing; --demo has its own")
    with needs_extra("web", "serving"):
        import uvicorn  # noqa: F401

        import vrelko.web.application  # noqa: F401
    # A server on every address has no one name; answering to any would let pages of other sites
    # ask.
    hosts = [*_LOOPBACK, *allowed, *([] if host in _EVERYWHERE else [host])]
    settings = {
        "hosts": hosts,
        "log_requests": log_requests or log_values,
        "log_values": log_values,
        "time_limit_ms": statement_ms,
        "at_once": at_once,
    }
    # What was not said leaves room for the pages file, and then for the defaults.
    given = {key: value for key, value in settings.items() if value is not None}
    if pages is None:
        app, close = _demo(Path(str(folder)), hosts)
    else:
        app, close = _listings(pages, tables, asked, given, pool)
    try:
        if as_json:
            _print_description(app)
            return
        _warn(pages, host, allowed)
        _run(app, host, port, opens, grace_s)
    finally:
        close()


def _run(app: Any, host: str, port: int, opens: bool, grace_s: int) -> None:
    """Serve until a signal ends it; the address is told once the server listens."""
    import uvicorn

    from vrelko.web.slow_clients import PatientProtocol

    # Before uvicorn is started: a port that is taken is told as any other mistake.
    listener = _listen(host, port)
    shown = f"[{host}]" if ":" in host else host
    if host in _EVERYWHERE:
        shown = "[::1]" if ":" in host else "127.0.0.1"
    # Asked of the socket: port 0 is known only once it listens.
    address = f"http://{shown}:{listener.getsockname()[1]}/"

    class Server(uvicorn.Server):
        async def startup(self, sockets: list[socket.socket] | None = None) -> None:
            await super().startup(sockets)
            click.echo(f"{address}  (Ctrl-C ends it)", err=True)
            if opens:
                threading.Thread(target=webbrowser.open, args=[address], daemon=True).start()

    _log_to_stderr()
    config = uvicorn.Config(
        app,
        log_level="warning",
        http=PatientProtocol,
        timeout_graceful_shutdown=grace_s,
        limit_concurrency=1_000,
        h11_max_incomplete_event_size=65_536,
        server_header=False,
    )
    logging.getLogger("uvicorn.error").addFilter(_is_trouble)
    for ending in (signal.SIGINT, signal.SIGTERM):  # which the server raises again when it ended
        signal.signal(ending, lambda *_: None)
    Server(config).run([listener])


def _is_trouble(record: logging.LogRecord) -> bool:
    """Tell whether a record is more than that the server's end cut an answer short."""
    kind = record.exc_info[0] if record.exc_info else None
    return kind is None or not issubclass(kind, asyncio.CancelledError)


def _listen(host: str, port: int) -> socket.socket:
    """Return a socket that listens. Raises PageError where there is none to be had."""
    try:
        kind, _, _, _, address = socket.getaddrinfo(
            host or None, port, type=socket.SOCK_STREAM, flags=socket.AI_PASSIVE
        )[0]
        listener = socket.socket(kind, socket.SOCK_STREAM)
        try:
            # A server that is begun again at once finds its port still in TIME_WAIT.
            listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            listener.bind(address)
            # More than the requests that are taken at once: the others are told so, not cut off.
            listener.listen(1_024)
        except OSError:
            listener.close()
            raise
    except OSError as error:
        raise PageError(
            f"nothing can listen at {host!r}, port {port}: {error.strerror or error}",
            "Name an address of this machine with --host, and a free port with --port",
            "serve-address",
        ) from error
    return listener


def _warn(pages: str | None, host: str, allowed: Sequence[str]) -> None:
    if host in _EVERYWHERE:
        names = ", ".join(allowed) or "none so far"
        click.echo(
            f"warning: every machine that reaches {host} can read these listings; requests are "
            f"answered for localhost and the names of --allow-host ({names})",
            err=True,
        )
    from vrelko.pagesfile.source import is_pages_file

    file = Path(pages) if pages is not None and is_pages_file(pages) else None
    if file is not None and file.stat().st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        click.echo(f"warning: others may write {pages}, and its python = lines run code", err=True)


def _log_to_stderr() -> None:
    # Its own handler: an application that sets up logging of its own is not doubled.
    handler = logging.StreamHandler()
    handler.setFormatter(logging.Formatter("%(asctime)s %(message)s"))
    told = logging.getLogger("vrelko.web")
    told.addHandler(handler)
    told.setLevel(logging.INFO)
    told.propagate = False


# long enough for any page that was planned, short enough that a pool is not held for minutes
_STATEMENT_MS = 10_000.0


def _listings(
    pages: str,
    tables: Sequence[str],
    described: Described,
    given: dict[str, Any],
    pool: int | None,
) -> tuple[Any, Callable[[], None]]:
    from vrelko.pagesfile.described import load_source
    from vrelko.web.application import make_app
    from vrelko.web.http_options import HttpOptions

    loaded, names = load_source(pages, tables, described, pool=pool)
    http_of = {name: HttpOptions(**settings) for name, settings in loaded.web.items()}
    # Later ones win: the usual, what the file says, what was said on the command line.
    settings = {"time_limit_ms": _STATEMENT_MS, **loaded.operation, **given}
    title = Path(pages.partition("?")[0]).stem
    chosen = {name: loaded[name] for name in names}
    app = make_app(chosen, loaded.engine, title=title, http_of=http_of, **settings)
    return app, loaded.close


def _demo(folder: Path, hosts: Sequence[str]) -> tuple[Any, Callable[[], None]]:
    from vrelko.web.demo.live import Live
    from vrelko.web.demo.site import make_demo

    database = folder / "larkmere.db"
    if not database.is_file():
        raise DatabaseError(
            f"there is no demo database in {str(folder)!r}",
            "Make it with: vrelko demo",
            "demo-missing",
        )
    live = Live(database)
    # (On a copy: the page writes, and the demo's numbers are for repeating.)
    return make_demo(live, hosts), live.close


def _print_description(app: Any) -> None:
    from vrelko.web.application import describe_app

    click.echo(json.dumps(describe_app(app), indent=2))
