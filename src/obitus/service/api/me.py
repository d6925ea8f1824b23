"""``/api/me``: one's own password, one-time codes, sessions and personal tokens."""

from __future__ import annotations

import json
from typing import Annotated, Final
from urllib.parse import urlsplit

from fastapi import Path, Request
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import DAY_MS, to_text
from obitus.service import secrets
from obitus.service.api import answers, people_answers, views
from obitus.service.api.sign_in import check_strength, checked_password, fresh_step
from obitus.service.dependencies import TheClock, TheLive, TheRecords, TheSettings
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in import codes
from obitus.service.sign_in.access import SignedIn, codes_are_due
from obitus.service.sign_in.acts import TheActs
from obitus.service.sign_in.passes import ThePasses
from obitus.service.sign_in.rights import MAY, SCOPES, WORDS
from obitus.store import people as store
from obitus.store import team
from obitus.store.apps import app_named
from obitus.store.rows.people import Scope

router = Router(prefix="/api", tags=["people"], responses=described("bad-field", "foreign-origin", "store-broken"))

FRESH_LINK_MS: Final = 15 * 60_000


class NewPassword(BaseModel):
    """A password to set."""

    model_config = ConfigDict(extra="forbid")

    password: str = Field(
        min_length=secrets.SHORTEST_PASSWORD,
        max_length=1000,
        description="At least twelve characters, and none that many use.",
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
    scope: Scope = Field(
        default="decide",
        description="What it may do: read, decide (and read), or administer (all); never more than its person may do.",
    )
    apps: list[Annotated[str, Field(max_length=60)]] | None = Field(
        default=None, min_length=1, max_length=100, description="Only these apps; all that I see when absent."
    )


class CodesOffered(BaseModel):
    """The secret for an authenticator app, shown only once."""

    secret: str = Field(description="For typing, in base 32.")
    address: str = Field(description="`otpauth://totp/…`")
    picture: str = Field(description="The address as a QR code: an SVG picture as a `data:` address.")


class OneTimeCode(BaseModel):
    """A code of an authenticator app."""

    model_config = ConfigDict(extra="forbid")

    code: str = Field(max_length=12, description="Six digits.")


@router.get("/me", summary="Who am I", responses=described("not-signed-in"))
def me(settings: TheSettings, person: SignedIn) -> people_answers.MeAnswer:
    """Return the signed-in person, and the scope of this session or token."""
    return people_answers.MeAnswer(
        name=person.name,
        role=person.role,
        may=min(person.scope, MAY[person.role], key=SCOPES.index),
        has_password=person.has_password,
        has_codes=person.has_codes,
        codes_due=codes_are_due(settings, person),
        codes_for_all=settings.codes_for_all,
        sees_all=person.sight.is_whole,
    )


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
            advice = "Give the old password, or sign in with a link first: start the service with --new-link."
            raise Problem("sign-in-failed", advice)
        _, fits = checked_password(records, clock, settings, acts, passes, request, person.name, order.old)
        records.writer.run(fits)
    check_strength(order.password, person.name)
    hashed = passes.hashing.do(secrets.hash_password, order.password)
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
def sessions(records: TheRecords, clock: TheClock, person: SignedIn) -> people_answers.SessionsAnswer:
    """Return the browsers that are signed in as me."""
    found = store.passes_of(records.reader, person.id, "session", clock.now_ms())
    return people_answers.SessionsAnswer(
        sessions=[
            people_answers.SessionAnswer(
                id=row.id,
                label=row.label,
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
def tokens(records: TheRecords, clock: TheClock, person: SignedIn) -> people_answers.TokensAnswer:
    """Return my personal tokens, without the tokens."""
    return people_answers.TokensAnswer(
        tokens=[
            people_answers.TokenAnswer(
                id=row.id,
                label=row.label,
                created=to_text(row.created_ms),
                expires=views.time_text(row.expires_ms),
                used=views.time_text(row.used_ms),
                scope=row.scope,
                apps=json.loads(row.apps) or None,
            )
            for row in store.passes_of(records.reader, person.id, "token", clock.now_ms())
        ]
    )


@router.post(
    "/me/tokens",
    summary="Make a personal token",
    status_code=201,
    responses=described("not-signed-in", "not-found", "scope-too-narrow"),
)
def add_token(
    records: TheRecords, acts: TheActs, passes: ThePasses, person: SignedIn, order: NewToken
) -> people_answers.NewTokenAnswer:
    """Make a personal token for a command line or a script; it is shown this once, and ends after a year at most."""
    if SCOPES.index(order.scope) > SCOPES.index(MAY[person.role]):
        raise Problem(
            "scope-too-narrow", f"A {person.role} may {WORDS[MAY[person.role]]} at most; a token can do no more."
        )
    apps = None if order.apps is None else [app_named(records.reader, app).id for app in order.apps]
    if apps is None and person.sight.only is not None:
        # A token cannot make one with a wider scope.
        apps = sorted(person.sight.only)
    token, keep = passes.new("token", order.label, order.days * DAY_MS, scope=order.scope, apps=apps)
    entry = f"{order.label}: may {order.scope}, for {order.days} days"
    entry += f", {', '.join(order.apps)} only" if order.apps else ""
    acts.do(person.id, "made token", entry, lambda c: keep(c, person.id))
    return people_answers.NewTokenAnswer(label=order.label, token=token)


@router.delete("/me/tokens/{id}", summary="Revoke a personal token", responses=described("not-signed-in", "not-found"))
def revoke_token(passes: ThePasses, person: SignedIn, id: Annotated[str, Path(max_length=60)]) -> answers.Done:
    """Revoke one of my personal tokens for good."""
    passes.end(id, person.id, "revoked token")
    return answers.Done()


@router.post("/me/codes", summary="Set up my one-time codes", status_code=201, responses=described("not-signed-in"))
def offer_codes(records: TheRecords, settings: TheSettings, person: SignedIn) -> CodesOffered:
    """Return the secret of one-time codes. They are required at sign-in once a first one was confirmed."""
    secret = codes.new_secret()
    records.writer.run(lambda c: team.offer_codes(c, person.id, secret))
    address = codes.address(secret, person.name, urlsplit(settings.url).hostname or "")
    return CodesOffered(secret=secret, address=address, picture=codes.picture(address))


@router.put(
    "/me/codes",
    summary="Confirm my one-time codes",
    responses=described("not-signed-in", "sign-in-failed", "not-found"),
)
def use_codes(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, order: OneTimeCode
) -> answers.Done:
    """Confirm with a first code that an authenticator app has the secret; from now on a password alone is not enough to sign in as me."""
    secret = team.offered_codes(records.reader, person.id)
    if secret is None:
        raise Problem("not-found", "No one-time codes were offered. Begin with POST /api/me/codes.")
    step = codes.step_of(secret, order.code, clock.now_ms())
    if step is None:
        raise Problem(
            "sign-in-failed", "This is not the code of now. Look at the clock of the telephone, and try the next one."
        )
    acts.do(person.id, "began one-time codes", "", lambda c: team.use_codes(c, person.id, secret, step))
    return answers.Done()


@router.post(
    "/me/codes/stop",
    summary="Remove my one-time codes",
    responses=described("not-signed-in", "sign-in-failed", "not-found", "codes-for-all"),
)
def stop_codes(
    records: TheRecords, clock: TheClock, settings: TheSettings, acts: TheActs, person: SignedIn, order: OneTimeCode
) -> answers.Done:
    """Remove one-time codes from sign-in. Needs a code; without the device an owner has to remove them."""
    if settings.codes_for_all:
        raise Problem("codes-for-all", "The service was started so that everybody is asked for one-time codes.")
    row = store.person_named(records.reader, person.name)
    if row is None or row.code_secret is None:
        raise Problem("not-found", "No one-time codes are asked for.")
    fresh_step(clock, acts, row, order.code, f"{person.name}: one-time code, to stop asking for them")
    acts.do(person.id, "stopped one-time codes", "", lambda c: team.stop_codes(c, person.id))
    return answers.Done()
