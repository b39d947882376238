"""Reading a pages file as TOML: its model, its database's address, its secrets."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path

from pydantic import ValidationError
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError

from vrelko.engines.registry import database_file
from vrelko.errors import PagesFileError, nearest
from vrelko.pagesfile.schema import CONDITION, PagesModel

_DATABASE = b"SQLite format 3\x00"


def read_model(file: Path) -> PagesModel:
    """Return what a pages file holds. Raises PagesFileError, naming file and key."""
    try:
        raw = file.read_bytes()
        # Commands take either, so the wrong one is a likely mistake.
        if raw.startswith(_DATABASE):
            raise PagesFileError(
                f"{str(file)!r} is an SQLite database, not a pages file",
                f'Write a TOML file with url = "sqlite:///{file.name}" under [source] and a '
                "[listing.NAME] table; `vrelko survey` takes the database itself",
                "pages-database",
            )
        data = tomllib.loads(raw.decode("utf-8"))
    except FileNotFoundError:
        # Path() makes one slash of two, which is how a URL looks by now.
        if "://" in str(file) or ":/" in str(file):
            raise PagesFileError(
                "this is a database URL, not a pages file",
                "Write a TOML file with url = … under [source] and a [listing.NAME] table; "
                "`vrelko survey` takes the URL itself",
                "pages-database",
            ) from None
        raise PagesFileError(
            f"there is no pages file {str(file)!r}",
            "Check the path; `vrelko demo` writes one to start from",
            "pages-missing",
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        raise PagesFileError(
            f"the pages file {str(file)!r} cannot be read: {error}",
            "Name a readable TOML file in UTF-8",
            "pages-unreadable",
        ) from error
    except tomllib.TOMLDecodeError as error:
        raise PagesFileError(
            f"{file} is not valid TOML: {error}", "Correct it at that place", "pages-toml"
        ) from error
    try:
        # Types and bounds are pydantic's; what keys mean together is checked where listings are
        # made.
        return PagesModel.model_validate(data)
    except ValidationError as error:
        raise _explain(file, error) from None


def is_pages_file(source: str) -> bool:
    """Tell whether what a command was given is a pages file, rather than a database."""
    if "://" in source:
        return False
    path = Path(source)
    # A missing file is told as the kind its name suggests, so that the error fits.
    if path.suffix.lower() == ".toml" or not path.is_file():
        return path.suffix.lower() not in (".db", ".sqlite", ".sqlite3")
    with path.open("rb") as held:
        return not held.read(len(_DATABASE)).startswith(_DATABASE)


def _explain(file: Path, error: ValidationError) -> PagesFileError:
    """Return the first fault of a pages file as file, key, what was expected and what to write."""
    # One fault at a time: the first often causes the others.
    first = error.errors()[0]
    path = [str(part) for part in first["loc"]]
    # A condition may have one of several forms, and each fails in its own way: the key alone is
    # named.
    if path[:1] == ["listing"] and len(path) > 3 and path[2] in ("where", "filters"):
        path = path[:4]
    key = ".".join(path)
    if first["type"] == "extra_forbidden":
        # Those of the same table: "size" is near to "sizes" in one place and to "size" of web in
        # another.
        known = PagesModel.keys_beside(path)
        return PagesFileError(
            f"{file}: the key {key!r} is not known", nearest(path[-1], known), "pages-key"
        )
    if first["type"] == "missing":
        return PagesFileError(
            f"{file}: the key {key!r} is missing", "Add it; see docs/pages-file.md", "pages-key"
        )
    # pydantic puts this before every message of ours.
    expected = first["msg"].removeprefix("Value error, ")
    if len(path) > 3 and path[2] in ("where", "filters"):
        expected = CONDITION
    return PagesFileError(
        f"{file}: the key {key!r} has a value that does not fit",
        f"Expected: {expected[0].lower()}{expected[1:]}",
        "pages-value",
    )


def address_of(file: Path, model: PagesModel) -> str:
    """Return the address of the database that a pages file names. Raises PagesFileError."""
    source = model.source
    address = source.url
    if source.url_env is not None:
        address = os.environ.get(source.url_env)
        # An empty variable is as good as none: SQLAlchemy would complain of its syntax.
        if not address:
            raise PagesFileError(
                f"{file}: source.url_env names the environment variable {source.url_env!r}, which "
                "is not set",
                f"Set it, such as {source.url_env}=sqlite:///larkmere.db",
                "pages-source",
            )
    if not address:
        raise PagesFileError(
            f"{file}: [source] does not say where the database is",
            'Add url = "sqlite:///file.db", url_env = "NAME" for a variable that holds it, or '
            'facts = "facts.json" to plan without a database',
            "pages-source",
        )
    return _beside(file, address)


def secrets_of(file: Path, model: PagesModel) -> list[str]:
    """Return the secrets that sign cursors, newest first. Raises PagesFileError."""
    named = model.source.secrets_env
    if named is None:
        return []
    # Several at once, so that a secret can be changed while old cursors are still about.
    found = [one.strip() for one in os.environ.get(named, "").split(",") if one.strip()]
    if not found:
        raise PagesFileError(
            f"{file}: source.secrets_env names the environment variable {named!r}, which is not "
            "set",
            "Set it to a secret of 16 bytes or more, or to several with commas, the newest first",
            "pages-source",
        )
    return found


def _beside(file: Path, address: str) -> str:
    """Return the address with a relative SQLite path taken from the pages file's folder."""
    try:
        url = make_url(address)
    except ArgumentError:
        return address
    path = database_file(url)
    # A folder of the pages file means nothing to a server, or to a path that says it all.
    if path is None or Path(path).is_absolute():
        return address
    return url.set(database=str(file.parent / path)).render_as_string(hide_password=False)
