"""``/api/sign-in``: with a link, an invitation, or name and password and a one-time code, for people who use them."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from typing import Final

from fastapi import Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import DAY_MS
from obitus.core.wording import as_sentence
from obitus.service import secrets
from obitus.service.addresses import address_of
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords, TheSettings
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.settings import Settings
from obitus.service.sign_in import codes
from obitus.service.sign_in.access import SignedIn, cookie_name, refuse_foreign
from obitus.service.sign_in.acts import Acts, TheActs
from obitus.service.sign_in.browsers import browser_label
from obitus.service.sign_in.passes import SESSION_LASTS_MS, Passes, ThePasses
from obitus.store import people as store
from obitus.store import team
from obitus.store.errors import NotThere
from obitus.store.records import Records
from obitus.store.rows.people import PersonWithPassword

router = Router(prefix="/api", tags=["sign-in"], responses=described("bad-field", "foreign-origin", "store-broken"))

TOKEN_LASTS_MS: Final = 365 * DAY_MS
NAME: Final = r"^[^\s\x00-\x1f][^\x00-\x1f]*$"


class SignIn(BaseModel):
    """The secret of a sign-in link; or name and password; or an invitation with the new name and password."""

    model_config = ConfigDict(extra="forbid")

    link: str | None = Field(default=None, max_length=200, description="The part after `#` of a sign-in link.")
    invitation: str | None = Field(default=None, max_length=200, description="The part after `#` of an invitation.")
    name: str | None = Field(default=None, max_length=60)
    password: str | None = Field(default=None, max_length=1000)
    code: str | None = Field(
        default=None, max_length=12, description="The one-time code, where one was asked for: problem `code-needed`."
    )
    token_label: str | None = Field(
        default=None,
        min_length=1,
        max_length=60,
        description="Make a personal token with this label, for a command line.",
    )


class SignInAnswer(BaseModel):
    """The signed-in person, with a token when one was requested instead of a cookie."""

    name: str
    token: str | None = None


class Invited(BaseModel):
    """The secret of an invitation, to see its terms."""

    model_config = ConfigDict(extra="forbid")

    invitation: str = Field(max_length=200)


class InvitedAnswer(BaseModel):
    """The terms of an invitation."""

    label: str
    role: str


Enter = Callable[[sqlite3.Connection], int]
"""Called in the transaction that makes the session; returns the person."""


@router.post(
    "/sign-in",
    summary="Sign in",
    response_model=SignInAnswer,
    responses=described(
        "sign-in-failed",
        "code-needed",
        "too-many-sign-ins",
        "too-busy",
        "body-too-large",
        "password-too-weak",
        "already-there",
        "too-many",
    ),
)
def sign_in(
    records: TheRecords,
    clock: TheClock,
    settings: TheSettings,
    acts: TheActs,
    passes: ThePasses,
    request: Request,
    order: SignIn,
) -> Response:
    """Sign in with a link (once), with an invitation (once), or with name and password. Sets the session cookie, or gives a token."""
    refuse_foreign(request)
    if order.link:
        name, enter = _with_link(records, clock, acts, request, order.link)
        how = "a link"
    elif order.invitation:
        name, enter = _with_invitation(records, clock, acts, passes, request, order)
        how = "an invitation"
    elif order.name and order.password:
        row, fits = checked_password(records, clock, settings, acts, passes, request, order.name, order.password)
        name, enter = row.name, _with_code(clock, acts, request, row, fits, order.code)
        how = "password and code" if row.code_secret else "a password"
    else:
        # Nothing was guessed, so it does not count as an attempt.
        raise Problem("sign-in-failed", "Send a link, an invitation, or name and password.")
    try:
        return let_in(passes, request, name, enter, f"with {how} from {address_of(request.scope)}", order)
    except NotThere as error:
        raise _no_link(acts, request, error) from None


def let_in(
    passes: Passes, request: Request, name: str, enter: Enter, how: str, order: SignIn, *, to: str | None = None
) -> Response:
    """Make the session, or the requested token, and record it; with ``to`` the answer redirects there."""
    settings, now_ms = passes.settings, passes.clock.now_ms()
    if order.token_label:
        secret, keep = passes.new("token", order.token_label, TOKEN_LASTS_MS)
    else:
        label = browser_label(request.headers.get("user-agent", ""), address_of(request.scope))
        secret, keep = passes.new("session", label, SESSION_LASTS_MS, by_link=bool(order.link or order.invitation))

    def signs_in(connection: sqlite3.Connection) -> None:
        # A link is used up only if its session is made.
        person_id = enter(connection)
        keep(connection, person_id)
        store.note_act(connection, person_id, "signed in", how, now_ms)

    passes.records.writer.run(signs_in)
    if order.token_label:
        return JSONResponse({"name": name, "token": secret})
    answer = JSONResponse({"name": name}) if to is None else Response(status_code=303, headers={"Location": to})
    answer.set_cookie(
        cookie_name(settings),
        secret,
        max_age=SESSION_LASTS_MS // 1000,
        httponly=True,
        samesite="strict",
        secure=settings.is_https or request.url.scheme == "https",
        path="/",
    )
    return answer


@router.post("/sign-in/invited", summary="What an invitation is to", responses=described("sign-in-failed"))
def invited(records: TheRecords, clock: TheClock, acts: TheActs, request: Request, order: Invited) -> InvitedAnswer:
    """Return the terms of an invitation, without using it up."""
    refuse_foreign(request)
    invitation = team.invitation_with(records.reader, secrets.hash_of(order.invitation), clock.now_ms())
    if invitation is None:
        raise _no_link(acts, request, NotThere(_NO_INVITATION))
    return InvitedAnswer(label=invitation.label, role=invitation.role)


_NO_INVITATION: Final = "this invitation was used or withdrawn, is too old, or was never given out. Ask for another"


def _with_link(records: Records, clock: Clock, acts: Acts, request: Request, link: str) -> tuple[str, Enter]:
    hashed, now_ms = secrets.hash_of(link), clock.now_ms()
    # Checked before it is used up: invalid links must not keep the writer busy.
    person = store.person_with(records.reader, hashed, "link", now_ms)
    if person is None:
        error = NotThere(
            "this sign-in link was used already, is too old, or was never given out. Start the service with --new-link to get another"
        )
        raise _no_link(acts, request, error)
    return person.name, lambda connection: store.use_link(connection, hashed, now_ms)


def _with_invitation(
    records: Records, clock: Clock, acts: Acts, passes: Passes, request: Request, order: SignIn
) -> tuple[str, Enter]:
    secret, now_ms = order.invitation or "", clock.now_ms()
    hashed = secrets.hash_of(secret)
    if team.invitation_with(records.reader, hashed, now_ms) is None:
        raise _no_link(acts, request, NotThere(_NO_INVITATION))
    name, password = (order.name or "").strip(), order.password or ""
    if not name or not name.isprintable():
        raise Problem("bad-field", "Give the name that others will see.", field="name")
    check_strength(password, name)
    kept = passes.hashing.do(secrets.hash_password, password)
    return name, lambda c: team.use_invitation(c, hashed, name, now_ms, password=kept)


def check_strength(password: str, name: str) -> None:
    """Refuse a password that is too easy to guess."""
    if len(password) < secrets.SHORTEST_PASSWORD:
        raise Problem(
            "password-too-weak", f"A password has {secrets.SHORTEST_PASSWORD} characters at least.", field="password"
        )
    weak = secrets.why_weak(password, name)
    if weak is not None:
        raise Problem("password-too-weak", weak, field="password")


def _no_link(acts: Acts, request: Request, error: NotThere) -> Problem:
    acts.note_refusal("sign-in failed", f"with a link from {address_of(request.scope)}")
    return Problem("sign-in-failed", as_sentence(str(error)))


def checked_password(
    records: Records,
    clock: Clock,
    settings: Settings,
    acts: Acts,
    passes: Passes,
    request: Request,
    name: str,
    password: str,
) -> tuple[PersonWithPassword, Enter]:
    """Return the person of a password, and the function that clears earlier attempts; raises a problem where it is
    wrong, or after too many attempts."""
    limits, now_ms, address = settings.limits, clock.now_ms(), address_of(request.scope)
    most = (limits.sign_in_attempts_for_a_name, limits.sign_in_attempts)
    wait_ms = records.writer.run(lambda c: store.try_sign_in(c, name, address, now_ms, most))
    if wait_ms:
        acts.note_refusal("sign-in refused", f"{name} from {address}: too many tries")
        wait_s = -(-wait_ms // 1000)
        advice = (
            f"Too many tries to sign in. Wait {wait_s} s, or use a sign-in link: start the service with --new-link."
        )
        raise Problem("too-many-sign-ins", advice, retry_after_s=wait_s)
    row = store.person_named(records.reader, name)
    renewed: str | None = None
    fits = passes.hashing.do(secrets.password_fits, password, row.password if row else None)
    if fits and row is not None and row.password is not None and secrets.needs_renewal(row.password):
        renewed = passes.hashing.do(secrets.hash_password, password)
    if row is None or not fits:
        acts.note_refusal("sign-in failed", f"{name} from {address}")
        raise Problem("sign-in-failed", "Name or password is wrong.")
    person = row

    def enter(connection: sqlite3.Connection) -> int:
        store.forget_tries(connection, name, address)
        if renewed is not None:
            team.renew_password(connection, person.id, person.password or "", renewed)
        return person.id

    return person, enter


def fresh_step(clock: Clock, acts: Acts, row: PersonWithPassword, code: str, subject: str) -> int:
    """Return the period of a person's one-time code; where it is wrong or was used, records that and raises a problem."""
    step = codes.step_of(row.code_secret, code, clock.now_ms()) if row.code_secret is not None else None
    if step is None or step <= row.code_step:
        acts.note_refusal("sign-in failed", subject)
        raise Problem("sign-in-failed", "This one-time code is not right, was used, or is too old. Wait for the next.")
    return step


def _with_code(
    clock: Clock, acts: Acts, request: Request, row: PersonWithPassword, enter: Enter, code: str | None
) -> Enter:
    """Return the function that completes the sign-in, after checking the one-time code; raises a problem where it is
    needed and missing."""
    if row.code_secret is None:
        return enter
    if not code:
        raise Problem("code-needed", "Send the one-time code too: the six digits that your authenticator app shows.")
    step = fresh_step(clock, acts, row, code, f"{row.name} from {address_of(request.scope)}: one-time code")

    def enters(connection: sqlite3.Connection) -> int:
        if not team.use_code(connection, row.id, step):
            raise Problem("sign-in-failed", "This one-time code was used already. Wait for the next.")
        return enter(connection)

    return enters


@router.post("/sign-out", summary="Sign out", responses=described("not-signed-in"))
def sign_out(settings: TheSettings, passes: ThePasses, person: SignedIn) -> Response:
    """End this session or this personal token."""
    passes.end(person.pass_id, person.id, "signed out")
    answer = JSONResponse({"done": True})
    secure = settings.is_https
    answer.delete_cookie(cookie_name(settings), path="/", httponly=True, samesite="strict", secure=secure)
    return answer
