"""Files that commands write: for their owner alone, as they hold rows or secrets."""

from __future__ import annotations

import os
from pathlib import Path

from vrelko.errors import FactsError


def write_own(path: Path, text: str) -> None:
    """Write a file; a new one is for its owner alone, as it may show values of rows."""
    # By the system's call: to narrow the rights afterwards leaves a moment in which all may read.
    number = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(number, "w", encoding="utf-8") as out:
        out.write(text)


def write_text(path: str, text: str) -> None:
    """Write a file that its owner alone may read where it is new. Raises FactsError."""
    try:
        write_own(Path(path), text)
    except OSError as error:
        raise FactsError(
            f"{path!r} cannot be written: {error.strerror}", "Choose another place", "not-writable"
        ) from error
