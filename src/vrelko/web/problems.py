"""Problem details (RFC 9457) of errors, each with what to do."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

from vrelko.errors import HTTP_STATUS, DatabaseError, VrelkoError, find_status

PROBLEM_TYPE = "application/problem+json"


def problem_of(error: VrelkoError, instance: str | None = None) -> dict[str, Any]:
    """Return an error as problem details; `code` and `todo` are ours.

    What a database said is not passed on: it may name tables, addresses or values.
    """
    status = find_status(error, HTTP_STATUS)
    detail, todo = error.what, error.todo
    if isinstance(error, DatabaseError) and status == HTTPStatus.SERVICE_UNAVAILABLE:
        detail, todo = "the database did not answer as asked", "Try again in a while"
    return make_problem(status, detail, todo, error.code, instance)


def make_problem(
    status: int, detail: str, todo: str, code: str, instance: str | None = None
) -> dict[str, Any]:
    """Return problem details."""
    found = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": detail,
        "todo": todo,
        "code": code,
    }
    return found if instance is None else {**found, "instance": instance}
