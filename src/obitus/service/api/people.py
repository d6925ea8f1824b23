"""``/api``: signing in and out, who I am, personal tokens."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from typing import Annotated, Final

from fastapi import APIRouter, Path, Query, Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import DAY_MS, to_text
from obitus.service import secrets
from obitus.service.api import answers, views
from obitus.service.clock import Clock
from obitus.service.given import TheClock, TheLive, TheRecords, TheSettings
from obitus.service.problems import Problem, described
from obitus.service.settings import Settings
from obitus.service.sign_in.access import SignedIn, address_of, cookie_name, refuse_foreign
from obitus.service.sign_in.acts import Acts, TheActs
from obitus.service.sign_in.passes import SESSION_LASTS_MS, Passes, ThePasses
from obitus.store import people as store
from obitus.store.errors import NotThere
from obitus.store.records import Records
from obitus.store.rows import Scope

router = APIRouter(prefix="/api", tags=["people"], responses=described("bad-field", "foreign-origin", "store-broken"))

FRESH_LINK_MS: Final = 15 * 60_000
TOKEN_LASTS_MS: Final = 365 * DAY_MS
PASSWORD_WAIT_S: Final = 5.0


class SignIn(BaseModel):
    """Either the secret of a sign-in link, or name and password."""

    model_config = ConfigDict(extra="forbid")

    link: str | None = Field(default=None, max_length=200, description="What stands behind `#` in a sign-in link.")
    name: str | None = Field(default=None, max_length=60)
    password: str | None = Field(default=None, max_length=1000)
    token_label: str | None = Field(
        default=None,
        min_length=1,
        max_length=60,
        description="Make a personal token with this label, for a command line.",
    )


class SignInAnswer(BaseModel):
    """Who was signed in, with a token when one was asked for instead of a cookie."""

    name: str
    token: str | None = None


class NewPassword(BaseModel):
    """A password to set."""

    model_config = ConfigDict(extra="forbid")

    password: str = Field(
        min_length=secrets.SHORTEST_PASSWORD,
        max_length=1000,
        description="At least twelve signs, and none that many use.",
    )
    old: str | None = Field(
        default=None,
        max_length=1000,
        description="The old one; not needed where a sign-in link was used within the last quarter of an hour.",
    )
    end_tokens: bool = Field(default=False, strict=True, description="End my personal tokens too.")


class NewToken(BaseModel):
    """A personal token to make."""

    model_config = ConfigDict(extra="forbid")

    label: str = Field(min_length=1, max_length=60, description="What it is for.")
    days: int = Field(default=365, ge=1, le=365, description="After how many days it ends.")
    scope: Scope = Field(default="decide", description="What it may do: read, decide (and read), or administer (all).")


Enter = Callable[[sqlite3.Connection], int]
"""What lets somebody in, in the transaction that makes the session; returns who it is."""


@router.post(
    "/sign-in",
    summary="Sign in",
    response_model=SignInAnswer,
    responses=described("sign-in-failed", "too-many-sign-ins", "too-busy", "body-too-large"),
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
    """Sign in with a link (once) or with name and password. Sets the session cookie, or gives a personal token."""
    refuse_foreign(request)
    if order.link:
        name, enter = _with_link(records, clock, acts, request, order.link)
    elif order.name and order.password:
        name, enter = _with_password(records, clock, settings, acts, passes, request, order.name, order.password)
    else:
        # Nothing was guessed, so it counts as no try.
        raise Problem("sign-in-failed", "Send either link, or name and password.")
    now_ms = clock.now_ms()
    how = f"with a {'link' if order.link else 'password'} from {address_of(request)}"
    if order.token_label:
        secret, keep = passes.new("token", order.token_label, TOKEN_LASTS_MS)
    else:
        secret, keep = passes.new("session", "browser", SESSION_LASTS_MS, by_link=bool(order.link))

    def signs_in(connection: sqlite3.Connection) -> None:
        # A link is used up only if the session that it is for comes to be.
        person_id = enter(connection)
        keep(connection, person_id)
        store.note_act(connection, person_id, "signed in", how, now_ms)

    try:
        records.writer.run(signs_in)
    except NotThere as error:
        raise _no_link(acts, request, error) from None
    if order.token_label:
        return JSONResponse({"name": name, "token": secret})
    answer = JSONResponse({"name": name})
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


def _with_link(records: Records, clock: Clock, acts: Acts, request: Request, link: str) -> tuple[str, Enter]:
    hashed, now_ms = secrets.hash_of(link), clock.now_ms()
    # Looked at before it is used up: nobody can keep the writer busy with links that are none.
    held = store.person_with(records.reader, hashed, "link", now_ms)
    if held is None:
        error = NotThere("this sign-in link was used already, is too old, or was never given out")
        raise _no_link(acts, request, error)
    return held.name, lambda connection: store.use_link(connection, hashed, now_ms)


def _no_link(acts: Acts, request: Request, error: NotThere) -> Problem:
    acts.note_refusal("sign-in failed", f"with a link from {address_of(request)}")
    return Problem("sign-in-failed", f"{error}. Start the service with --new-link to get another.")


def _with_password(
    records: Records,
    clock: Clock,
    settings: Settings,
    acts: Acts,
    passes: Passes,
    request: Request,
    name: str,
    password: str,
) -> tuple[str, Enter]:
    limits, now_ms, address = settings.limits, clock.now_ms(), address_of(request)
    most = (limits.sign_in_attempts_for_a_name, limits.sign_in_attempts)
    wait_ms = records.writer.run(lambda c: store.try_sign_in(c, name, address, now_ms, most))
    if wait_ms:
        acts.note_refusal("sign-in refused", f"{name} from {address}: too many tries")
        wait_s = -(-wait_ms // 1000)
        said = f"Too many tries to sign in. Wait {wait_s} s, or use a sign-in link: start the service with --new-link."
        raise Problem("too-many-sign-ins", said, retry_after_s=wait_s)
    row = store.person_named(records.reader, name)
    if not passes.password_checks.acquire(timeout=PASSWORD_WAIT_S):
        raise Problem("too-busy", "Too many sign in at this moment. Try again in a moment.", retry_after_s=1)
    try:
        fits = secrets.password_fits(password, row.password if row else None)
    finally:
        passes.password_checks.release()
    if row is None or not fits:
        acts.note_refusal("sign-in failed", f"{name} from {address}")
        raise Problem("sign-in-failed", "Name and password do not fit together.")
    person_id = int(row.id)

    def enter(connection: sqlite3.Connection) -> int:
        store.forget_tries(connection, name, address)
        return person_id

    return str(row.name), enter


@router.post("/sign-out", summary="Sign out", responses=described("not-signed-in"))
def sign_out(settings: TheSettings, passes: ThePasses, person: SignedIn) -> Response:
    """End this session or this personal token."""
    passes.end(person.pass_id, person.id, "signed out")
    answer = JSONResponse({"done": True})
    secure = settings.is_https
    answer.delete_cookie(cookie_name(settings), path="/", httponly=True, samesite="strict", secure=secure)
    return answer


@router.get("/me", summary="Who am I", responses=described("not-signed-in"))
def me(person: SignedIn) -> answers.PersonAnswer:
    """Return who is signed in."""
    return answers.PersonAnswer(name=person.name, role=person.role, has_password=person.has_password)


@router.post(
    "/me/password",
    summary="Set my password",
    responses=described("not-signed-in", "sign-in-failed", "password-too-weak"),
)
def set_password(
    records: TheRecords,
    clock: TheClock,
    settings: TheSettings,
    acts: TheActs,
    passes: ThePasses,
    live: TheLive,
    request: Request,
    person: SignedIn,
    order: NewPassword,
) -> answers.Done:
    """Set a password; all other sessions and sign-in links end. Asks for the old one, or for a sign-in link just used."""
    now_ms = clock.now_ms()
    fresh = person.by_link_ms is not None and abs(now_ms - person.by_link_ms) < FRESH_LINK_MS
    if person.has_password and not fresh:
        if not order.old:
            said = "Give the old password, or sign in with a link first: start the service with --new-link."
            raise Problem("sign-in-failed", said)
        _, fits = _with_password(records, clock, settings, acts, passes, request, person.name, order.old)
        records.writer.run(fits)
    weak = secrets.why_weak(order.password, person.name)
    if weak is not None:
        raise Problem("password-too-weak", weak, field="password")
    hashed = secrets.hash_password(order.password)
    ended = acts.do(
        person.id,
        "set password",
        lambda ended: f"{len(ended)} other sessions, links and tokens ended",
        lambda c: store.set_password(
            c, person.id, hashed, keep_pass=person.pass_id, now_ms=now_ms, tokens=order.end_tokens
        ),
    )
    for pass_id in ended:
        live.end(pass_id)
    return answers.Done()


@router.get("/me/sessions", summary="Where I am signed in", responses=described("not-signed-in"))
def sessions(records: TheRecords, clock: TheClock, person: SignedIn) -> answers.SessionsAnswer:
    """Return the browsers that are signed in as me."""
    found = store.passes_of(records.reader, person.id, "session", clock.now_ms())
    return answers.SessionsAnswer(
        sessions=[
            answers.SessionAnswer(
                id=row.id,
                created=to_text(row.created_ms),
                expires=to_text(row.expires_ms or row.created_ms),
                used=views.time_text(row.used_ms),
                is_this=row.id == person.pass_id,
            )
            for row in found
        ]
    )


@router.delete("/me/sessions/{id}", summary="Sign a browser out", responses=described("not-signed-in", "not-found"))
def end_session(passes: ThePasses, person: SignedIn, id: Annotated[str, Path(max_length=60)]) -> answers.Done:
    """End one of my sessions."""
    passes.end(id, person.id, "ended session")
    return answers.Done()


@router.get("/me/tokens", summary="My personal tokens", responses=described("not-signed-in"))
def tokens(records: TheRecords, clock: TheClock, person: SignedIn) -> answers.TokensAnswer:
    """Return my personal tokens, without the tokens."""
    return answers.TokensAnswer(
        tokens=[
            answers.TokenAnswer(
                id=row.id,
                label=row.label,
                created=to_text(row.created_ms),
                expires=views.time_text(row.expires_ms),
                used=views.time_text(row.used_ms),
                scope=row.scope,
            )
            for row in store.passes_of(records.reader, person.id, "token", clock.now_ms())
        ]
    )


@router.post("/me/tokens", summary="Make a personal token", status_code=201, responses=described("not-signed-in"))
def add_token(acts: TheActs, passes: ThePasses, person: SignedIn, order: NewToken) -> answers.NewTokenAnswer:
    """Make a personal token for a command line or a script; it is shown this once, and ends after a year at most."""
    token, keep = passes.new("token", order.label, order.days * DAY_MS, scope=order.scope)
    said = f"{order.label}: may {order.scope}, for {order.days} days"
    acts.do(person.id, "made token", said, lambda c: keep(c, person.id))
    return answers.NewTokenAnswer(label=order.label, token=token)


@router.delete("/me/tokens/{id}", summary="Revoke a personal token", responses=described("not-signed-in", "not-found"))
def revoke_token(passes: ThePasses, person: SignedIn, id: Annotated[str, Path(max_length=60)]) -> answers.Done:
    """Revoke one of my personal tokens for good."""
    passes.end(id, person.id, "revoked token")
    return answers.Done()


@router.get("/acts", summary="What was done", responses=described("not-signed-in"))
def acts(
    records: TheRecords,
    person: SignedIn,
    act: Annotated[str, Query(max_length=100, description="Only acts of this kind.")] = "",
    by: Annotated[str, Query(max_length=60, description="Only what this person did.")] = "",
    before: Annotated[int, Query(ge=1, le=2**62, description="Read on from here.")] = 2**62,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> answers.ActsAnswer:
    """Return what people did, and what was refused: sign-ins, keys, tokens, rules, merges, newest first."""
    rows = store.acts(records.reader, act=act, person=by, before=before, most=limit)
    return answers.ActsAnswer(
        acts=[
            answers.ActAnswer(id=row.id, time=to_text(row.time_ms), person=row.person, act=row.act, subject=row.subject)
            for row in rows
        ],
        kinds=store.act_kinds(records.reader),
        more=rows[-1].id if len(rows) == limit else None,
    )
