"""Who may do what: reporting keys report, sessions and personal tokens read and decide."""

from __future__ import annotations

import re
from typing import Annotated, Final

from fastapi import Depends, Request, Security
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials
from starlette.types import Scope

from obitus.service.intake.intake import Intake
from obitus.service.intake.senders import reporting_key
from obitus.service.problems import Problem
from obitus.service.secrets import KEY_PREFIX, hash_of
from obitus.service.settings import Settings
from obitus.service.sign_in.passes import Passes, ThePasses
from obitus.store import people
from obitus.store.rows import Scope as PassScope

COOKIE = "obitus_session"
SCOPES: Final = ("read", "decide", "administer")
_DECIDES = re.compile(r"/api/(?:issues/|deploys$|regroupings/\d+/undo|apps/[^/]+/commits/)")

_token = HTTPBearer(scheme_name="personal token", auto_error=False, description="A personal token, from Set-up.")
_session = APIKeyCookie(name=COOKIE, scheme_name="session", auto_error=False, description="Set by signing in.")


def signed_in(
    request: Request,
    passes: ThePasses,
    token: Annotated[HTTPAuthorizationCredentials | None, Security(_token)] = None,
    session: Annotated[str | None, Security(_session)] = None,
) -> people.Person:
    """Return who asks; raises a problem when nobody is signed in."""
    # The front has asked already, before it let the body in.
    known = request.scope.get("obitus.person")
    if isinstance(known, people.Person):
        return known
    session = session or request.cookies.get(cookie_name(passes.settings))
    return person_of(passes, request, token.credentials if token is not None else None, session)


def who_asks(passes: Passes, intake: Intake, scope: Scope) -> people.Person | None:
    """Return who asks for something below ``/api``, None for a reporting key; raises a problem for anybody else.

    Only the head of the request is looked at.
    """
    request = Request(scope)
    kind, _, secret = request.headers.get("authorization", "").partition(" ")
    secret = secret.strip()
    if kind.lower() == "bearer" and secret.startswith(KEY_PREFIX):
        # Which routes take one, each says for itself. What has a body is let in with a good one only.
        if request.method not in ("GET", "HEAD"):
            reporting_key(intake, request.headers["authorization"])
        return None
    token = secret if kind.lower() == "bearer" and secret else None
    return person_of(passes, request, token, request.cookies.get(cookie_name(passes.settings)))


def person_of(passes: Passes, request: Request, token: str | None, session: str | None) -> people.Person:
    """Return whose token or session this is; raises a problem when it is nobody's."""
    if token is not None:
        if token.startswith(KEY_PREFIX):
            raise Problem(
                "reporting-key-cannot-read",
                "This is a reporting key: it may only send reports. Read with a personal token (Set-up, Personal tokens).",
            )
        person = people.person_with(passes.records.reader, hash_of(token), "token", passes.clock.now_ms())
        if person is None:
            raise Problem(
                "not-signed-in",
                "This personal token is not known here, was revoked, or has come to its end. Make a new one in Set-up.",
            )
        return _let_in(passes, request, person)
    if session:
        person = people.person_with(passes.records.reader, hash_of(session), "session", passes.clock.now_ms())
        if person is not None:
            refuse_foreign(request)
            return _let_in(passes, request, person)
    raise Problem("not-signed-in", "Sign in first, or send a personal token as Authorization: Bearer.")


def _let_in(passes: Passes, request: Request, person: people.Person) -> people.Person:
    """Return somebody whose pass is good for what is asked; raises a problem else."""
    needed = scope_needed(request.method, request.url.path)
    if SCOPES.index(person.scope) < SCOPES.index(needed):
        passes.acts.note(person, "refused", f"{request.method} {request.url.path}: needs {needed}")
        raise Problem(
            "scope-too-narrow",
            f"This personal token may only {person.scope}; this needs one that may {needed}. Make one in Set-up.",
        )
    passes.touch(person)
    return person


def scope_needed(method: str, path: str) -> PassScope:
    """Return what a pass must be good for: to read, to decide about issues, or to administer."""
    if method in ("GET", "HEAD") or path == "/api/sign-out":
        return "read"
    return "decide" if _DECIDES.match(path) else "administer"


def cookie_name(settings: Settings) -> str:
    """Return the cookie's name; where the address is https no other page of its domain can set one of that name."""
    return f"__Host-{COOKIE}" if settings.is_https else COOKIE


def address_of(request: Request) -> str:
    """Return the address that a request comes from."""
    return request.client.host if request.client is not None else ""


def refuse_foreign(request: Request) -> None:
    """A cookie is sent by the browser itself, so what changes something must come from our own pages."""
    if request.method in ("GET", "HEAD"):
        return
    site = request.headers.get("sec-fetch-site", "same-origin")
    origin = request.headers.get("origin")
    host = request.headers.get("host", "")
    # A scheme, a name, a port, and nothing else: what else an origin may hold is made to be misread.
    ours = origin is None or origin in (f"http://{host}", f"https://{host}")
    if site not in ("same-origin", "none") or not ours:
        raise Problem("foreign-origin", "Changes are taken from this service's own pages only.")


SignedIn = Annotated[people.Person, Depends(signed_in)]
