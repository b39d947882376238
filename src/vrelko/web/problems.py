"""Problem details (RFC 9457) of errors, each with what to do."""

from __future__ import annotations

from http import HTTPStatus
from typing import Any

from vrelko.errors import HTTP_STATUS, DatabaseError, UnavailableError, VrelkoError, find_status

PROBLEM_TYPE = "application/problem+json"


def problem_of(error: VrelkoError, instance: str | None = None) -> dict[str, Any]:
    """Return an error as problem details; `code` and `todo` are ours.

    What a database said is not passed on: it may name tables, addresses or values.
    """
    status = find_status(error, HTTP_STATUS)
    # Errors speak to whoever calls in Python; a client has an address.
    detail, todo = error.what, _IN_REQUESTS.get(error.code, error.todo)
    if isinstance(error, UnavailableError) and error.code != "listing-busy":
        detail, todo = "the database did not answer as asked", "Try again in a while"
    elif isinstance(error, DatabaseError) and status == HTTPStatus.INTERNAL_SERVER_ERROR:
        detail, todo = "the database cannot answer this", "Tell who runs it; its log says more"
    return make_problem(status, detail, todo, error.code, instance)


_IN_REQUESTS = {
    "page-past-end": "Follow the link to the last page",
    "page-range": "Ask for another page, or follow a link",
    "offset-deep": "Go on by the links to the next and previous pages",
    "parameter-missing": "Add it to the address",
    "parameter-kind": "Give each parameter by its name",
    "parameter-shape": "Give its values with commas between",
}
"""What to do in terms of a request, where the error speaks of a call."""


def retry_of(status: int) -> dict[str, str]:
    """Return the header that tells when to try again, where that may help."""
    # A full pool clears within seconds, a reader's minute does not.
    seconds = {429: "30", 503: "2", 504: "2"}.get(status)
    return {} if seconds is None else {"Retry-After": seconds}


def make_problem(
    status: int, detail: str, todo: str, code: str, instance: str | None = None
) -> dict[str, Any]:
    """Return problem details."""
    # RFC 9457 wants "about:blank" where the status says all that the type could.
    found = {
        "type": "about:blank",
        "title": HTTPStatus(status).phrase,
        "status": status,
        "detail": detail,
        "todo": todo,
        "code": code,
    }
    return found if instance is None else {**found, "instance": instance}
