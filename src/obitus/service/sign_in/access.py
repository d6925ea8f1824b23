"""Checking rights: reporting keys report, sessions and personal tokens read and decide."""

from __future__ import annotations

from typing import Annotated, Final
from urllib.parse import unquote

from fastapi import Depends, Request
from fastapi.openapi.models import HTTPBearer
from fastapi.security.base import SecurityBase
from starlette.types import Scope

from obitus.service.front import PERSON
from obitus.service.intake.intake import Intake
from obitus.service.intake.senders import reporting_key
from obitus.service.problems import Problem
from obitus.service.secrets import KEY_PREFIX, hash_of
from obitus.service.settings import Settings
from obitus.service.sign_in.passes import Passes
from obitus.service.sign_in.rights import MAY, SCOPES, WORDS, Need, need_of, subject_of
from obitus.store import people, team
from obitus.store.rows.people import Scope as PassScope

COOKIE = "obitus_session"
_BEFORE_CODES: Final = frozenset(
    {
        ("GET", "/api/me"),
        ("POST", "/api/me/codes"),
        ("PUT", "/api/me/codes"),
        ("POST", "/api/me/password"),
        ("POST", "/api/sign-out"),
    }
)
"""Routes for a session without required one-time codes; personal tokens cannot be made."""

TOKEN: Final = "personal token"
SESSION: Final = {"type": "apiKey", "description": "Set by signing in.", "in": "cookie", "name": COOKIE}
"""The other way to be signed in, for the description: the framework takes one for each dependency."""


class _SignedIn(SecurityBase):
    """The dependency of a route for people. It has no dependencies of its own: most routes have it, and each costs time in each request."""

    scheme_name = TOKEN
    model = HTTPBearer(description="A personal token, from Set-up.")

    async def __call__(self, request: Request) -> people.Person:
        """Return the asker; raises a problem for a reporting key, which the middleware lets pass."""
        person = let_in_before(request)
        if person is None:
            raise _reads_nothing()
        return person


signed_in: Final = _SignedIn()


def let_in_before(request: Request) -> people.Person | None:
    """Return the asker, whom the middleware has checked before the body; None for a reporting key."""
    known = request.scope.get(PERSON)
    return known if isinstance(known, people.Person) else None


def _reads_nothing() -> Problem:
    return Problem(
        "reporting-key-cannot-read",
        "This is a reporting key: it may only send reports. Read with a personal token (Set-up, Personal tokens).",
    )


async def who_asks(passes: Passes, intake: Intake, scope: Scope) -> people.Person | None:
    """Return the asker of a request below ``/api``, None for a reporting key; raises a problem for anybody else.
    Only the head of the request is used, and a thread only where the records are.
    """
    request = Request(scope)
    kind, _, secret = request.headers.get("authorization", "").partition(" ")
    secret = secret.strip()
    if kind.lower() == "bearer" and secret.startswith(KEY_PREFIX):
        # Routes that accept a reporting key check that themselves. A request with a body needs a valid one here.
        if request.method not in ("GET", "HEAD"):
            await passes.threads.do(reporting_key, intake, request.headers["authorization"])
        return None
    token = secret if kind.lower() == "bearer" and secret else None
    return _known_asker(passes, request, token) or await passes.threads.do(person_asking, passes, request, token)


def _known_asker(passes: Passes, request: Request, token: str | None) -> people.Person | None:
    """Return the asker where that takes no look into the records, and there is nothing to refuse; else None."""
    session = None if token is not None else request.cookies.get(cookie_name(passes.settings))
    secret = token or session
    person = passes.known_with("token" if token else "session", hash_of(secret)) if secret else None
    if person is None or (session and (is_foreign(request) or not _has_its_codes(passes, request, person))):
        return None
    need = need_of(request.method, request.url.path)
    may = _pass_allows(person, need) and _role_allows(person, need) and not _must_see(person, need)
    return person if may else None


def person_asking(passes: Passes, request: Request, token: str | None) -> people.Person:
    """Return the asker by this token or by the session's cookie; raises a problem without a valid one."""
    known = let_in_before(request)
    return known or person_of(passes, request, token, request.cookies.get(cookie_name(passes.settings)))


def person_of(passes: Passes, request: Request, token: str | None, session: str | None) -> people.Person:
    """Return the person of a token or session; raises a problem when it is not valid."""
    if token is not None:
        if token.startswith(KEY_PREFIX):
            raise _reads_nothing()
        person = passes.person_with("token", hash_of(token))
        if person is None:
            raise Problem(
                "not-signed-in",
                "This personal token is not known here, was revoked, or has come to its end. Make a new one in Set-up.",
            )
        return _let_in(passes, request, person)
    if session:
        person = passes.person_with("session", hash_of(session))
        if person is not None:
            refuse_foreign(request)
            if not _has_its_codes(passes, request, person):
                raise Problem(
                    "codes-due",
                    "Everybody is asked for one-time codes here. Set them up first, in the console or with POST /api/me/codes.",
                )
            return _let_in(passes, request, person)
    raise Problem("not-signed-in", "Sign in first, or send a personal token as Authorization: Bearer.")


def codes_are_due(settings: Settings, person: people.Person) -> bool:
    """Whether a person has to set up one-time codes first."""
    return settings.codes_for_all and person.has_password and not person.has_codes


def _has_its_codes(passes: Passes, request: Request, person: people.Person) -> bool:
    return not codes_are_due(passes.settings, person) or (request.method, request.url.path) in _BEFORE_CODES


def _scope_for(need: Need) -> PassScope:
    """One's own things need no role, but a pass with the full scope."""
    return "administer" if need == "own" else need


def _pass_allows(person: people.Person, need: Need) -> bool:
    return SCOPES.index(person.scope) >= SCOPES.index(_scope_for(need))


def _role_allows(person: people.Person, need: Need) -> bool:
    return need == "own" or SCOPES.index(MAY[person.role]) >= SCOPES.index(need)


def _must_see(person: people.Person, need: Need) -> bool:
    """Whether it counts which apps a person sees: what is read is limited to these anyway."""
    return need not in ("read", "own") and not person.sight.is_whole


def _let_in(passes: Passes, request: Request, person: people.Person) -> people.Person:
    """Return the asker after checking rights and visible apps; raises a problem."""
    method, path = request.method, request.url.path
    need = need_of(method, path)
    scope = _scope_for(need)
    if not _pass_allows(person, need):
        passes.acts.note(person, "refused", f"{method} {path}: needs {scope}")
        raise Problem(
            "scope-too-narrow",
            f"This personal token may only {WORDS[person.scope]}; this needs one that may {WORDS[scope]}. Make one in Set-up.",
        )
    if not _role_allows(person, need):
        passes.acts.note(person, "refused", f"{method} {path}: not for a {person.role}")
        raise Problem(
            "not-for-this-role",
            f"{person.name} is a {person.role} here, who may {WORDS[MAY[person.role]]}; this is for those who may {WORDS[scope]}. "
            "Ask an owner.",
        )
    if _must_see(person, need):
        _check_subject(passes, person, need, path)
    passes.touch(person)
    return person


def _check_subject(passes: Passes, person: people.Person, need: Need, path: str) -> None:
    """Refuse changes of apps that a person does not see, or of all apps at once."""
    subject = subject_of(path)
    if subject is None:
        if need == "administer":
            raise Problem(
                "scope-too-narrow", "This is about all apps, and the token is for some. Make one for all in Set-up."
            )
        return
    kind, name = subject
    if not team.is_seen(passes.records.seen_with(person.sight).reader, kind, unquote(name)):
        raise Problem("not-found", f"There is no {_SUBJECTS[kind]} {unquote(name)[:60]}.")


_SUBJECTS: Final = {"issues": "issue", "quiet": "quiet failure", "regroupings": "regrouping", "apps": "app named"}


def cookie_name(settings: Settings) -> str:
    """Return the cookie's name; with https, pages of other hosts of the domain cannot set it."""
    return f"__Host-{COOKIE}" if settings.is_https else COOKIE


def is_foreign(request: Request) -> bool:
    """Whether a request that changes something comes from another's page."""
    if request.method in ("GET", "HEAD"):
        return False
    site = request.headers.get("sec-fetch-site", "same-origin")
    origin = request.headers.get("origin")
    host = request.headers.get("host", "")
    # A scheme, a name, a port, and nothing else: other parts of an origin are meant to mislead.
    ours = origin is None or origin in (f"http://{host}", f"https://{host}")
    return site not in ("same-origin", "none") or not ours


def refuse_foreign(request: Request) -> None:
    """Browsers send cookies by themselves, so requests that change something must come from our own pages."""
    if is_foreign(request):
        raise Problem("foreign-origin", "Changes are taken from this service's own pages only.")


SignedIn = Annotated[people.Person, Depends(signed_in)]
