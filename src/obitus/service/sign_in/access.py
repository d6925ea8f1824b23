"""Checking rights: reporting keys report, sessions and personal tokens read and decide."""

from __future__ import annotations

from typing import Annotated, Final
from urllib.parse import unquote

from fastapi import Depends, Request, Security
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials
from starlette.types import Scope

from obitus.service.front import PERSON
from obitus.service.intake.intake import Intake
from obitus.service.intake.senders import reporting_key
from obitus.service.problems import Problem
from obitus.service.secrets import KEY_PREFIX, hash_of
from obitus.service.settings import Settings
from obitus.service.sign_in.passes import Passes, ThePasses
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

_token = HTTPBearer(scheme_name="personal token", auto_error=False, description="A personal token, from Set-up.")
_session = APIKeyCookie(name=COOKIE, scheme_name="session", auto_error=False, description="Set by signing in.")


async def signed_in(
    request: Request,
    passes: ThePasses,
    token: Annotated[HTTPAuthorizationCredentials | None, Security(_token)] = None,
    session: Annotated[str | None, Security(_session)] = None,
) -> people.Person:
    """Return the asker; raises a problem when nobody is signed in."""
    known = let_in_before(request)
    if known is not None:
        return known
    session = session or request.cookies.get(cookie_name(passes.settings))
    return await passes.threads.do(
        person_of, passes, request, token.credentials if token is not None else None, session
    )


def let_in_before(request: Request) -> people.Person | None:
    """Return the asker, whom the middleware has checked before the body; None where it did not have to."""
    known = request.scope.get(PERSON)
    return known if isinstance(known, people.Person) else None


def who_asks(passes: Passes, intake: Intake, scope: Scope) -> people.Person | None:
    """Return the asker of a request below ``/api``, None for a reporting key; raises a problem for anybody else.
    Only the head of the request is used.
    """
    request = Request(scope)
    kind, _, secret = request.headers.get("authorization", "").partition(" ")
    secret = secret.strip()
    if kind.lower() == "bearer" and secret.startswith(KEY_PREFIX):
        # Routes that accept a reporting key check that themselves. A request with a body needs a valid one here.
        if request.method not in ("GET", "HEAD"):
            reporting_key(intake, request.headers["authorization"])
        return None
    token = secret if kind.lower() == "bearer" and secret else None
    return person_asking(passes, request, token)


def person_asking(passes: Passes, request: Request, token: str | None) -> people.Person:
    """Return the asker by this token or by the session's cookie; raises a problem without a valid one."""
    known = let_in_before(request)
    return known or person_of(passes, request, token, request.cookies.get(cookie_name(passes.settings)))


def person_of(passes: Passes, request: Request, token: str | None, session: str | None) -> people.Person:
    """Return the person of a token or session; raises a problem when it is not valid."""
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
            if codes_are_due(passes.settings, person) and (request.method, request.url.path) not in _BEFORE_CODES:
                raise Problem(
                    "codes-due",
                    "Everybody is asked for one-time codes here. Set them up first, in the console or with POST /api/me/codes.",
                )
            return _let_in(passes, request, person)
    raise Problem("not-signed-in", "Sign in first, or send a personal token as Authorization: Bearer.")


def codes_are_due(settings: Settings, person: people.Person) -> bool:
    """Whether a person has to set up one-time codes first."""
    return settings.codes_for_all and person.has_password and not person.has_codes


def _let_in(passes: Passes, request: Request, person: people.Person) -> people.Person:
    """Return the asker after checking rights and visible apps; raises a problem."""
    method, path = request.method, request.url.path
    need = need_of(method, path)
    # One's own things need no role, but a pass with the full scope.
    scope: PassScope = "administer" if need == "own" else need
    if SCOPES.index(person.scope) < SCOPES.index(scope):
        passes.acts.note(person, "refused", f"{method} {path}: needs {scope}")
        raise Problem(
            "scope-too-narrow",
            f"This personal token may only {WORDS[person.scope]}; this needs one that may {WORDS[scope]}. Make one in Set-up.",
        )
    if need != "own" and SCOPES.index(MAY[person.role]) < SCOPES.index(need):
        passes.acts.note(person, "refused", f"{method} {path}: not for a {person.role}")
        raise Problem(
            "not-for-this-role",
            f"{person.name} is a {person.role} here, who may {WORDS[MAY[person.role]]}; this is for those who may {WORDS[need]}. "
            "Ask an owner.",
        )
    if need not in ("read", "own") and not person.sight.is_whole:
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


def refuse_foreign(request: Request) -> None:
    """Browsers send cookies by themselves, so requests that change something must come from our own pages."""
    if request.method in ("GET", "HEAD"):
        return
    site = request.headers.get("sec-fetch-site", "same-origin")
    origin = request.headers.get("origin")
    host = request.headers.get("host", "")
    # A scheme, a name, a port, and nothing else: other parts of an origin are meant to mislead.
    ours = origin is None or origin in (f"http://{host}", f"https://{host}")
    if site not in ("same-origin", "none") or not ours:
        raise Problem("foreign-origin", "Changes are taken from this service's own pages only.")


SignedIn = Annotated[people.Person, Depends(signed_in)]
