"""What each route asks of whoever calls it: to read, to decide about issues, to administer, or to be oneself.

Routes that are not named here are for those who administer, unless they only read.
"""

from __future__ import annotations

import re
from typing import Any, Final, Literal

from fastapi import FastAPI

from obitus.service.front import OPEN
from obitus.store.rows.people import Role, Scope

Need = Literal["read", "decide", "administer", "own"]
SCOPES: Final[tuple[Scope, ...]] = ("read", "decide", "administer")
MAY: Final[dict[Role, Scope]] = {"owner": "administer", "member": "decide", "reader": "read"}
WORDS: Final[dict[Scope, str]] = {
    "read": "read",
    "decide": "decide about issues",
    "administer": "administer",
}

_READING: Final = ("GET", "HEAD")
_ADMINISTERS_READING: Final = re.compile(r"/api/(?:acts(?:/|$)|people/invitations$)")
# What is one's own: whatever the role, but not with a token that may not do everything.
_OWN: Final = re.compile(r"/api/me/")
_DECIDES: Final = re.compile(
    r"/api/(?:issues/|decisions(?:/|$)|quiet/|deploys$|check-lists(?:/|$)|regroupings/[^/]+/undo|saved(?:/|$)|boards(?:/|$)"
    r"|alerts/|silences(?:/|$)|messages/|alert-rules/preview$|apps/[^/]+/(?:commits/|log-orders|maps|tracepoints))"
)


def need_of(method: str, path: str) -> Need:
    """Return what a request needs; the path may be one with names in braces."""
    if path == "/api/sign-out":
        # Whoever is let in may leave.
        return "read"
    if method in _READING:
        return "administer" if _ADMINISTERS_READING.match(path) else "read"
    if _OWN.match(path):
        return "own"
    return "decide" if _DECIDES.match(path) else "administer"


def say_needs(app: FastAPI) -> None:
    """Let the description of the API say, at each route that is not for everybody, what it needs: ``x-needs``."""
    describe = app.openapi

    def with_needs() -> dict[str, Any]:
        if app.openapi_schema is None:
            for path, operations in describe()["paths"].items():
                if path.startswith("/api/") and path not in OPEN:
                    for method, operation in operations.items():
                        operation["x-needs"] = need_of(method.upper(), path)
        return describe()

    app.openapi = with_needs  # type: ignore[method-assign]


_SUBJECT: Final = re.compile(r"/api/(issues|quiet|regroupings|apps)/([^/]+)")


def subject_of(path: str) -> tuple[str, str] | None:
    """Return the kind and the number or name of what a request changes, where it is something of one app."""
    found = _SUBJECT.match(path)
    return None if found is None else (found[1], found[2])
