"""The right that each route needs: to read, to decide about issues, to administer, or one's own. Routes that are not
named here need the right to administer, unless they only read.
"""

from __future__ import annotations

import re
from typing import Any, Final, Literal

from fastapi import FastAPI

from obitus.service.front import OPEN
from obitus.store.rows.people import Role, Scope

COOKIE: Final = "obitus_session"
TOKEN: Final = "personal token"
_SESSION: Final = {"type": "apiKey", "description": "Set by signing in.", "in": "cookie", "name": COOKIE}

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
# One's own things: for any role, but not with a token of limited scope.
_OWN: Final = re.compile(r"/api/me/")
_DECIDES: Final = re.compile(
    r"/api/(?:issues/|decisions(?:/|$)|quiet/|deploys$|check-lists(?:/|$)|regroupings/[^/]+/undo|saved(?:/|$)|boards(?:/|$)"
    r"|alerts/|silences(?:/|$)|messages/|alert-rules/preview$|apps/[^/]+/(?:commits/|log-orders|maps|tracepoints))"
)


def need_of(method: str, path: str) -> Need:
    """Return the right that a request needs; the path may have parameters in braces."""
    if path == "/api/sign-out":
        # Everybody may sign out.
        return "read"
    if method in _READING:
        return "administer" if _ADMINISTERS_READING.match(path) else "read"
    if _OWN.match(path):
        return "own"
    return "decide" if _DECIDES.match(path) else "administer"


def say_needs(app: FastAPI) -> None:
    """Add the needed right to each route of the API's description: ``x-needs``; and where a token is good, that a session is, too:
    the framework knows one way to be signed in for each dependency.
    """
    describe = app.openapi

    def with_needs() -> dict[str, Any]:
        if app.openapi_schema is None:
            description = describe()
            description["components"]["securitySchemes"]["session"] = _SESSION
            for path, operations in description["paths"].items():
                for method, operation in operations.items():
                    if path.startswith("/api/") and path not in OPEN:
                        operation["x-needs"] = need_of(method.upper(), path)
                    if {TOKEN: []} in operation.get("security", ()):
                        operation["security"].append({"session": []})
        return describe()

    app.openapi = with_needs  # type: ignore[method-assign]


_SUBJECT: Final = re.compile(r"/api/(issues|quiet|regroupings|apps)/([^/]+)")


def subject_of(path: str) -> tuple[str, str] | None:
    """Return the kind and the number or name of the object that a request changes, where it belongs to one app."""
    match = _SUBJECT.match(path)
    return None if match is None else (match[1], match[2])
