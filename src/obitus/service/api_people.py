"""``/api``: signing in and out, who I am, personal tokens."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.service import answers, secrets
from obitus.service.access import COOKIE, SignedIn, TheService, refuse_foreign
from obitus.service.problems import Problem, described
from obitus.service.wiring import SESSION_LASTS_MS, Service
from obitus.store import people as store
from obitus.store.errors import NotThere

router = APIRouter(prefix="/api", tags=["people"], responses=described("bad-field", "foreign-origin", "store-broken"))

SIGN_IN_WINDOW_MS = 5 * 60_000


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

    password: str = Field(min_length=12, max_length=1000, description="At least twelve signs.")


class NewToken(BaseModel):
    """A personal token to make."""

    model_config = ConfigDict(extra="forbid")

    label: str = Field(min_length=1, max_length=60, description="What it is for.")


@router.post(
    "/sign-in",
    summary="Sign in",
    response_model=SignInAnswer,
    responses=described("sign-in-failed", "too-many-sign-ins"),
)
def sign_in(service: TheService, request: Request, order: SignIn) -> Response:
    """Sign in with a link (once) or with name and password. Sets the session cookie, or gives a personal token."""
    refuse_foreign(request)
    now_ms = service.now_ms()
    failed = service.failed_sign_ins
    while failed and failed[0] < now_ms - SIGN_IN_WINDOW_MS:
        failed.popleft()
    if len(failed) == failed.maxlen:
        wait_s = (failed[0] + SIGN_IN_WINDOW_MS - now_ms) // 1000 + 1
        raise Problem("too-many-sign-ins", f"Too many failed sign-ins. Wait {wait_s} s.", retry_after_s=wait_s)
    try:
        person_id, name = _who(service, order, now_ms)
    except Problem:
        failed.append(now_ms)
        raise
    service.writer.run(
        lambda c: store.note_act(c, person_id, "signed in", "link" if order.link else "password", now_ms)
    )
    if order.token_label:
        token = service.add_pass("token", person_id, order.token_label, None)
        return JSONResponse({"name": name, "token": token})
    session = service.add_pass("session", person_id, "browser", SESSION_LASTS_MS)
    answer = JSONResponse({"name": name})
    answer.set_cookie(
        COOKIE,
        session,
        max_age=SESSION_LASTS_MS // 1000,
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https" or service.settings.url.startswith("https:"),
        path="/",
    )
    return answer


def _who(service: Service, order: SignIn, now_ms: int) -> tuple[int, str]:
    if order.link:
        try:
            hashed = secrets.hash_of(order.link)
            person_id = service.writer.run(lambda c: store.use_link(c, hashed, now_ms))
        except NotThere as error:
            raise Problem("sign-in-failed", f"{error}. Start the service with --new-link to get another.") from None
        return person_id, "owner"
    if order.name and order.password:
        row = store.person_named(service.reader, order.name)
        if secrets.password_fits(order.password, row["password"] if row else None) and row is not None:
            return row["id"], row["name"]
        raise Problem("sign-in-failed", "Name and password do not fit together.")
    raise Problem("sign-in-failed", "Send either link, or name and password.")


@router.post("/sign-out", summary="Sign out", responses=described("not-signed-in"))
def sign_out(service: TheService, person: SignedIn) -> Response:
    """End this session or this personal token."""
    now_ms = service.now_ms()
    service.writer.run(lambda c: store.end_pass(c, person.pass_id, person.id, now_ms))
    answer = JSONResponse({"done": True})
    answer.delete_cookie(COOKIE, path="/", httponly=True, samesite="strict")
    return answer


@router.get("/me", summary="Who am I", responses=described("not-signed-in"))
def me(person: SignedIn) -> answers.PersonAnswer:
    """Return who is signed in."""
    return answers.PersonAnswer(name=person.name, role=person.role, has_password=person.has_password)


@router.post("/me/password", summary="Set my password", responses=described("not-signed-in"))
def set_password(service: TheService, person: SignedIn, order: NewPassword) -> answers.Done:
    """Set a password; all other sessions and sign-in links end."""
    hashed, now_ms = secrets.hash_password(order.password), service.now_ms()
    service.writer.run(lambda c: store.set_password(c, person.id, hashed, keep_pass=person.pass_id, now_ms=now_ms))
    service.writer.run(lambda c: store.note_act(c, person.id, "set password", person.name, now_ms))
    return answers.Done()


@router.get("/me/tokens", summary="My personal tokens", responses=described("not-signed-in"))
def tokens(service: TheService, person: SignedIn) -> answers.TokensAnswer:
    """Return my personal tokens, without the tokens."""
    return answers.TokensAnswer(
        tokens=[
            answers.TokenAnswer(id=row["id"], label=row["label"], created=to_text(row["created_ms"]))
            for row in store.tokens_of(service.reader, person.id)
        ]
    )


@router.post("/me/tokens", summary="Make a personal token", status_code=201, responses=described("not-signed-in"))
def add_token(service: TheService, person: SignedIn, order: NewToken) -> answers.NewTokenAnswer:
    """Make a personal token for a command line or a script; it is shown this once."""
    token, now_ms = service.add_pass("token", person.id, order.label, None), service.now_ms()
    service.writer.run(lambda c: store.note_act(c, person.id, "made token", order.label, now_ms))
    return answers.NewTokenAnswer(label=order.label, token=token)


@router.delete("/me/tokens/{id}", summary="Revoke a personal token", responses=described("not-signed-in", "not-found"))
def revoke_token(service: TheService, person: SignedIn, id: Annotated[str, Path(max_length=60)]) -> answers.Done:
    """Revoke one of my personal tokens for good."""
    now_ms = service.now_ms()
    service.writer.run(lambda c: store.end_pass(c, id, person.id, now_ms))
    service.writer.run(lambda c: store.note_act(c, person.id, "revoked token", id, now_ms))
    return answers.Done()
