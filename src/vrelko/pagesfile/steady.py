"""How a pages file says that pages are kept steady."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError

from vrelko.engines.registry import database_file
from vrelko.errors import PagesFileError
from vrelko.pagesfile.schema import FrozenModel, ListingModel
from vrelko.serving.steady.frozen import FrozenIds
from vrelko.serving.steady.settings import Settle, Steady


def steady_of(file: Path, listing: str, model: ListingModel) -> Steady | None:
    """Return how a listing is kept steady. Raises PagesFileError, PageError and ListingError.

    The table of frozen lists is made where it is missing.
    """
    said = model.steady
    if said is None:
        return None
    settle = None
    if said.settle is not None:
        settle = Settle(said.settle.column, said.settle.seconds, said.settle.horizon)
    frozen = None if said.frozen is None else _frozen(file, listing, said.frozen)
    return Steady(said.ceiling, said.overlap, settle, frozen)


def _frozen(file: Path, listing: str, model: FrozenModel) -> FrozenIds:
    address = model.url if model.url is not None else os.environ.get(str(model.url_env), "")
    where = f"{file}: listing.{listing}.steady.frozen"
    try:
        url: Any = make_url(address)
    except ArgumentError as error:
        raise PagesFileError(
            f"{where} gives no database URL", 'Write url = "sqlite:///lists.db"', "pages-frozen"
        ) from error
    path = database_file(url)
    if path is not None:
        # From the file's folder, as the source's own address is.
        url = url.set(database=str(file.parent / path))
    frozen = FrozenIds(
        create_engine(url, hide_parameters=True),
        **model.said("url", "url_env"),
    )
    # At start, not at the first list: a lack of rights shows before readers come.
    frozen.create()
    return frozen
