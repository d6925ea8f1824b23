"""Checking rights: reporting keys report, sessions and personal tokens read and decide."""

from __future__ import annotations

from typing import Annotated, Final, NamedTuple
from urllib.parse import unquote

from fastapi import Depends, Request
from fastapi.openapi.models import HTTPBearer
from fastapi.security.base import SecurityBase
from starlette.types import Scope

from obitus.service.front import PERSON
from obitus.service.intake.intake import Intake
from obitus.service.intake.senders import sender_key
from obitus.service.problems import Problem
from obitus.service.secrets import KEY_PREFIX, hash_of
from obitus.service.settings import Settings
from obitus.service.sign_in.passes import Passes
from obitus.service.sign_in.rights import COOKIE, MAY, SCOPES, TOKEN, WORDS, need_of, subject_of
from obitus.store import people, team
from obitus.store.rows.people import Scope as PassScope

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
    person = request.scope.get(PERSON)
    return person if isinstance(person, people.Person) else None


def _reads_nothing() -> Problem:
    return Problem(
        "reporting-key-cannot-read",
        "This is a reporting key: it may only send reports. Read with a personal token (Set-up, Personal tokens).",
    )


async def who_asks(passes: Passes, intake: Intake, scope: Scope) -> people.Person | None:
    """Return the asker of a request below ``/api``, None for a reporting key; raises a problem for anybody else.
    Only the head of the request is used, and a thread only where the records are needed.
    """
    request = Request(scope)
    scheme, _, secret = request.headers.get("authorization", "").partition(" ")
    secret = secret.strip()
    if scheme.lower() == "bearer" and secret.startswith(KEY_PREFIX):
        # Routes that accept a reporting key check that themselves. A request with a body needs a valid one here.
        if request.method not in ("GET", "HEAD"):
            await sender_key(intake, request.headers["authorization"])
        return None
    token = secret if scheme.lower() == "bearer" and secret else None
    kind, credential = _pass_of(passes, request, token)
    person = passes.known_with(kind, hash_of(credential)) if credential else None
    if person is not None and not _refusal(passes, request, kind, person) and not _must_see(request, person):
        return person
    return await passes.threads.do(person_asking, passes, request, token)


def person_asking(passes: Passes, request: Request, token: str | None) -> people.Person:
    """Return the asker by this token or by the session's cookie; raises a problem without a valid one, or for what it may not do."""
    person_known = let_in_before(request)
    if person_known is not None:
        return person_known
    kind, credential = _pass_of(passes, request, token)
    if kind == "token" and credential.startswith(KEY_PREFIX):
        raise _reads_nothing()
    person = passes.person_with(kind, hash_of(credential)) if credential else None
    if person is None and kind == "token":
        raise Problem(
            "not-signed-in",
            "This personal token is not known here, was revoked, or has come to its end. Make a new one in Set-up.",
        )
    if person is None:
        raise Problem("not-signed-in", "Sign in first, or send a personal token as Authorization: Bearer.")
    refusal = _refusal(passes, request, kind, person)
    if refusal is not None:
        if refusal.noted:
            passes.acts.note(person, "refused", refusal.noted)
        raise refusal.problem
    if _must_see(request, person):
        _check_subject(passes, person, request)
    passes.touch(person)
    return person


def _pass_of(passes: Passes, request: Request, token: str | None) -> tuple[people.PassKind, str]:
    """Return the kind of pass that comes with a request, and its secret: empty where none comes."""
    if token is not None:
        return "token", token
    return "session", request.cookies.get(cookie_name(passes.settings), "")


def codes_are_due(settings: Settings, person: people.Person) -> bool:
    """Whether a person has to set up one-time codes first."""
    return settings.codes_for_all and person.has_password and not person.has_codes


class _Refusal(NamedTuple):
    """Why a request is refused, and what goes on record of it: nothing where that is empty."""

    problem: Problem
    noted: str = ""


def _refusal(passes: Passes, request: Request, kind: people.PassKind, person: people.Person) -> _Refusal | None:
    """Return why a request is refused, as far as its head, the pass and the role decide that; the records are not needed."""
    method, path = request.method, request.url.path
    if kind == "session":
        if is_foreign(request):
            return _Refusal(_foreign())
        if codes_are_due(passes.settings, person) and (method, path) not in _BEFORE_CODES:
            advice = "Everybody is asked for one-time codes here. Set them up first, in the console or with POST /api/me/codes."
            return _Refusal(Problem("codes-due", advice))
    need = need_of(method, path)
    # One's own things need no role, but a pass with the full scope.
    scope: PassScope = "administer" if need == "own" else need
    if SCOPES.index(person.scope) < SCOPES.index(scope):
        advice = f"This personal token may only {WORDS[person.scope]}; this needs one that may {WORDS[scope]}. Make one in Set-up."
        return _Refusal(Problem("scope-too-narrow", advice), f"{method} {path}: needs {scope}")
    if need != "own" and SCOPES.index(MAY[person.role]) < SCOPES.index(need):
        advice = (
            f"{person.name} is a {person.role} here, who may {WORDS[MAY[person.role]]}; this is for those who may {WORDS[need]}. "
            "Ask an owner."
        )
        return _Refusal(Problem("not-for-this-role", advice), f"{method} {path}: not for a {person.role}")
    return None


def _must_see(request: Request, person: people.Person) -> bool:
    """Whether it counts which apps a person sees: what is read is limited to these anyway."""
    return not person.sight.is_whole and need_of(request.method, request.url.path) not in ("read", "own")


def _check_subject(passes: Passes, person: people.Person, request: Request) -> None:
    """Refuse changes of apps that a person does not see, or of all apps at once."""
    subject = subject_of(request.url.path)
    if subject is None:
        if need_of(request.method, request.url.path) == "administer":
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
        raise _foreign()


def _foreign() -> Problem:
    return Problem("foreign-origin", "Changes are taken from this service's own pages only.")


SignedIn = Annotated[people.Person, Depends(signed_in)]
