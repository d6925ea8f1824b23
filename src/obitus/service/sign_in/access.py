"""Who may do what: reporting keys report, sessions and personal tokens read and decide."""

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
"""What a session is good for while one-time codes are due: a personal token is not among it."""

_token = HTTPBearer(scheme_name="personal token", auto_error=False, description="A personal token, from Set-up.")
_session = APIKeyCookie(name=COOKIE, scheme_name="session", auto_error=False, description="Set by signing in.")


async def signed_in(
    request: Request,
    passes: ThePasses,
    token: Annotated[HTTPAuthorizationCredentials | None, Security(_token)] = None,
    session: Annotated[str | None, Security(_session)] = None,
) -> people.Person:
    """Return who asks; raises a problem when nobody is signed in."""
    known = let_in_before(request)
    if known is not None:
        return known
    session = session or request.cookies.get(cookie_name(passes.settings))
    return await passes.threads.do(
        person_of, passes, request, token.credentials if token is not None else None, session
    )


def let_in_before(request: Request) -> people.Person | None:
    """Return whom the front let in, which asks before it takes the body; None where it did not have to ask."""
    known = request.scope.get(PERSON)
    return known if isinstance(known, people.Person) else None


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
    return person_asking(passes, request, token)


def person_asking(passes: Passes, request: Request, token: str | None) -> people.Person:
    """Return who asks, with this token or with the session's cookie; raises a problem when it is nobody."""
    known = let_in_before(request)
    return known or person_of(passes, request, token, request.cookies.get(cookie_name(passes.settings)))


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
            if codes_are_due(passes.settings, person) and (request.method, request.url.path) not in _BEFORE_CODES:
                raise Problem(
                    "codes-due",
                    "Everybody is asked for one-time codes here. Set them up first, in the console or with POST /api/me/codes.",
                )
            return _let_in(passes, request, person)
    raise Problem("not-signed-in", "Sign in first, or send a personal token as Authorization: Bearer.")


def codes_are_due(settings: Settings, person: people.Person) -> bool:
    """Whether somebody has to set up one-time codes before anything else."""
    return settings.codes_for_all and person.has_password and not person.has_codes


def _let_in(passes: Passes, request: Request, person: people.Person) -> people.Person:
    """Return somebody who may do what is asked, to what they see; raises a problem else."""
    method, path = request.method, request.url.path
    need = need_of(method, path)
    # What is one's own needs no role, but a pass that is good for everything.
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
    """Refuse what would change something of an app that somebody does not see, or of all apps at once."""
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
    """Return the cookie's name; where the address is https no other page of its domain can set one of that name."""
    return f"__Host-{COOKIE}" if settings.is_https else COOKIE


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
