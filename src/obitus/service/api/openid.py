"""``/api/sign-in/openid``: signing in by the OpenID Connect provider that the service was started with."""

from __future__ import annotations

import logging
import sqlite3
from typing import Annotated, Final
from urllib.parse import quote

from fastapi import Query, Request
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, ConfigDict, Field

from obitus.service import secrets
from obitus.service.addresses import address_of
from obitus.service.api.sign_in import SignIn, let_in
from obitus.service.dependencies import TheSettings
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, refuse_foreign
from obitus.service.sign_in.openid import BEGUN_LASTS_S, Begun, OpenIdSignIn, OpenIdTrouble, Vouched
from obitus.service.sign_in.passes import Passes, TheOpenId, ThePasses
from obitus.store import team
from obitus.store.errors import StoreError

router = Router(prefix="/api", tags=["sign-in"], responses=described("bad-field", "foreign-origin", "store-broken"))

COOKIE: Final = "obitus_openid"
PLACE: Final = "/api/sign-in/openid"
_log = logging.getLogger("obitus.service")


class SignInWays(BaseModel):
    """The ways of signing in."""

    openid: str | None = Field(description="What the OpenID Connect provider is called; null where there is none.")


class BeginOpenId(BaseModel):
    """The purpose of the sign-in."""

    model_config = ConfigDict(extra="forbid", strict=True)

    invitation: str | None = Field(
        default=None, max_length=200, description="An invitation to use up, for who is not known here yet."
    )


class OpenIdAddress(BaseModel):
    """Where to send the browser."""

    address: str


@router.get("/sign-in/ways", summary="How to sign in")
def ways(settings: TheSettings) -> SignInWays:
    """Return the ways of signing in, in addition to name and password."""
    return SignInWays(openid=settings.openid.title if settings.openid else None)


@router.post(
    "/sign-in/openid",
    summary="Begin to sign in by OpenID Connect",
    response_model=OpenIdAddress,
    responses=described("no-openid"),
)
def begin(settings: TheSettings, openid: TheOpenId, request: Request, order: BeginOpenId) -> Response:
    """Return the provider's address for this sign-in; the browser gets a cookie with which the end of the sign-in is checked."""
    refuse_foreign(request)
    return _begun(request, openid, invitation=order.invitation, person_id=None, secure=settings.is_https)


@router.post(
    "/me/openid",
    summary="Connect me with an OpenID Connect account",
    response_model=OpenIdAddress,
    responses=described("not-signed-in", "no-openid"),
)
def begin_for_me(settings: TheSettings, openid: TheOpenId, request: Request, person: SignedIn) -> Response:
    """Return the provider's address, to connect the provider's account with me."""
    return _begun(request, openid, invitation=None, person_id=person.id, secure=settings.is_https)


def _begun(
    request: Request, openid: OpenIdSignIn | None, *, invitation: str | None, person_id: int | None, secure: bool
) -> Response:
    if openid is None:
        raise Problem("no-openid", "This service was started without an OpenID Connect provider.")
    try:
        address, held = openid.begin(invitation=invitation, person_id=person_id)
    except OpenIdTrouble as trouble:
        _log.warning("sign-in by OpenID Connect cannot begin: %s", trouble)
        raise Problem(
            "no-openid", "The OpenID Connect provider does not answer. The service's log says more."
        ) from None
    answer = JSONResponse({"address": address})
    # Lax: the provider redirects back here.
    answer.set_cookie(
        COOKIE, held, max_age=int(BEGUN_LASTS_S), httponly=True, samesite="lax", secure=secure, path=PLACE
    )
    return answer


@router.get(
    "/sign-in/openid/back",
    # Providers redirect browsers here; it is not part of the API.
    include_in_schema=False,
    status_code=303,
    response_class=Response,
)
def back(
    passes: ThePasses,
    openid: TheOpenId,
    request: Request,
    code: Annotated[str, Query(max_length=4000)] = "",
    state: Annotated[str, Query(max_length=200)] = "",
    iss: Annotated[str | None, Query(max_length=500)] = None,
    error: Annotated[str, Query(max_length=200)] = "",
) -> Response:
    """Handle the provider's redirect: sign in the person whose identity it confirms."""
    where = address_of(request.scope)
    try:
        if openid is None:
            raise OpenIdTrouble("there is no provider")
        if error or not code:
            raise OpenIdTrouble(f"the provider says {error[:100]!r}")
        held = request.cookies.get(COOKIE, "")
        begun, vouched = openid.finish(held, state, code, iss, passes.clock.now_ms() / 1000)
        answer = _enter(passes, request, openid, begun, vouched, where)
    except OpenIdTrouble as trouble:
        _log.warning("sign-in by OpenID Connect from %s failed: %s", where, trouble)
        passes.acts.note_refusal("sign-in failed", f"by OpenID Connect from {where}")
        answer = _to_sign_in("failed")
    except StoreError as trouble:
        passes.acts.note_refusal("sign-in failed", f"by OpenID Connect from {where}: {trouble}")
        answer = _to_sign_in("refused")
    answer.delete_cookie(COOKIE, path=PLACE)
    return answer


def _enter(
    passes: Passes, request: Request, openid: OpenIdSignIn, begun: Begun, vouched: Vouched, where: str
) -> Response:
    """Return the answer that signs in the person of the provider, or says that they are not known here."""
    now_ms, pair = passes.clock.now_ms(), (vouched.issuer, vouched.subject)
    how = f"by OpenID Connect from {where}"
    if begun.person_id is not None:
        person_id = begun.person_id
        passes.acts.do(
            person_id, "signs in by OpenID Connect", f"{vouched.name} at {vouched.issuer}",
            lambda c: team.vouch(c, person_id, *pair),
        )  # fmt: skip
        return Response(status_code=303, headers={"Location": "/set-up"})
    name = team.vouched_for(passes.records.reader, *pair)

    def enter(connection: sqlite3.Connection) -> int:
        if name is not None:
            return team.named(connection, name)[0]
        if begun.invitation is not None:
            hashed = secrets.hash_of(begun.invitation)
            return team.use_invitation(connection, hashed, _free(connection, vouched.name), now_ms, vouched=pair)
        role = openid.settings.joins_as
        assert role is not None
        return team.add(connection, _free(connection, vouched.name), role, now_ms, vouched=pair)

    if name is None and begun.invitation is None and openid.settings.joins_as is None:
        passes.acts.note_refusal("sign-in failed", f"{how}: {vouched.name} is not one of the people")
        return _to_sign_in("unknown")
    return let_in(passes, request, name or vouched.name, enter, how, SignIn(), to="/")


def _free(connection: sqlite3.Connection, name: str) -> str:
    """Return an unused name: the provider's, else with a number after it."""
    for number in range(2, 1000):
        if not team.is_taken(connection, name):
            return name
        name = f"{name[:55].rsplit(' (', 1)[0]} ({number})"
    return name


def _to_sign_in(why: str) -> Response:
    return Response(status_code=303, headers={"Location": f"/sign-in#openid={quote(why)}"})
