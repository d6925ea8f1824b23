"""``/api/people``: people, their roles, invitations, and who sees limited apps."""

from __future__ import annotations

import json
from typing import Annotated, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import DAY_MS, to_text
from obitus.service import secrets
from obitus.service.api import views
from obitus.service.api.answers import Done, Time
from obitus.service.dependencies import TheClock, TheLive, TheRecords, TheSettings
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.service.sign_in.passes import LINK_LASTS_MS, ThePasses
from obitus.store import apps as app_store
from obitus.store import team
from obitus.store.rows.people import Role

router = Router(
    prefix="/api",
    tags=["people"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "foreign-origin", "store-broken"),
)

LONGEST_DAYS: Final = 30
Name = Annotated[str, Path(max_length=60, description="The name of one of the people.")]
Label = Annotated[str, Field(min_length=1, max_length=60)]


class SomebodyAnswer(BaseModel):
    """One of the people."""

    name: str
    role: Role
    since: Time
    used: Time | None = Field(default=None, description="When they were last here, to within minutes.")
    has_password: bool
    has_codes: bool = Field(description="Whether they are asked for one-time codes beside the password.")
    openid: bool = Field(description="Whether they sign in by OpenID Connect.")
    apps: list[str] = Field(description="The limited apps that they see; owners see all.")
    is_me: bool


class PeopleAnswer(BaseModel):
    """The people, and the apps that only some of them see."""

    people: list[SomebodyAnswer]
    limited: list[str] = Field(description="Apps that only owners, and people named for them, see.")


class InvitationAnswer(BaseModel):
    """An invitation that is open."""

    id: str
    label: str
    role: Role
    apps: list[str] = Field(description="The limited apps that who comes by it will see.")
    made_by: str
    created: Time
    expires: Time


class InvitationsAnswer(BaseModel):
    """The invitations that are open."""

    invitations: list[InvitationAnswer]


class LinkAnswer(BaseModel):
    """A link, shown this once."""

    link: str
    expires: Time


class NewInvitation(BaseModel):
    """Somebody to invite."""

    model_config = ConfigDict(extra="forbid", strict=True)

    label: Label = Field(description="Whom it is for.")
    role: Role = Field(default="member", description="owner: everything; member: decide about issues; reader: read.")
    apps: list[Label] = Field(default=[], max_length=200, description="Limited apps that they will see.")
    days: int = Field(default=7, ge=1, le=LONGEST_DAYS, description="After how many days it ends.")


class Place(BaseModel):
    """A role."""

    model_config = ConfigDict(extra="forbid", strict=True)

    role: Role


class WhoSees(BaseModel):
    """The people who see an app."""

    model_config = ConfigDict(extra="forbid", strict=True)

    people: list[Label] | None = Field(max_length=500, description="Owners and these people; everybody with null.")


@router.get("/people", summary="The people")
def people(records: TheRecords, person: SignedIn) -> PeopleAnswer:
    """Return the people, and which apps are limited. Apps that the asker does not see are left out."""
    app_names = {app.id: app.name for app in app_store.apps(records.reader)}
    return PeopleAnswer(
        people=[
            SomebodyAnswer(
                name=row.name,
                role=row.role,
                since=to_text(row.created_ms),
                used=views.time_text(row.used_ms),
                has_password=bool(row.has_password),
                has_codes=bool(row.has_codes),
                openid=row.subject is not None,
                apps=sorted(set(json.loads(row.apps)) & set(app_names.values())),
                is_me=row.id == person.id,
            )
            for row in team.everybody(records.reader)
        ],
        limited=sorted(app_names[app_id] for app_id in team.limited(records.reader) if app_id in app_names),
    )


@router.get("/people/invitations", summary="Open invitations")
def invitations(records: TheRecords, clock: TheClock) -> InvitationsAnswer:
    """Return the unused invitations, without their links."""
    names = {app.id: app.name for app in app_store.apps(records.reader)}
    return InvitationsAnswer(
        invitations=[
            InvitationAnswer(
                id=row.id,
                label=row.label,
                role=row.role,
                apps=[names[app] for app in json.loads(row.apps) if app in names],
                made_by=row.made_by,
                created=to_text(row.created_ms),
                expires=to_text(row.expires_ms),
            )
            for row in team.invitations(records.reader, clock.now_ms())
        ]
    )


@router.post("/people/invitations", summary="Invite somebody", status_code=201, responses=described("not-found"))
def invite(clock: TheClock, settings: TheSettings, acts: TheActs, person: SignedIn, order: NewInvitation) -> LinkAnswer:
    """Return a link with which one person can join; they choose their name and password themselves."""
    secret, now_ms = secrets.new_secret(), clock.now_ms()
    expires_ms = now_ms + order.days * DAY_MS
    acts.do(
        person.id,
        "invited",
        f"{order.label} as {order.role}" + (f", to {', '.join(order.apps)}" if order.apps else ""),
        lambda c: team.invite(
            c,
            secret_hash=secrets.hash_of(secret),
            invitation_id=secrets.new_secret()[:12],
            label=order.label,
            role=order.role,
            apps=order.apps,
            made_by=person.id,
            now_ms=now_ms,
            expires_ms=expires_ms,
        ),
    )
    # After `#`, so that no server log has it.
    return LinkAnswer(link=f"{settings.url}/sign-in#invitation={secret}", expires=to_text(expires_ms))


@router.delete("/people/invitations/{id}", summary="Withdraw an invitation", responses=described("not-found"))
def withdraw(clock: TheClock, acts: TheActs, person: SignedIn, id: Annotated[str, Path(max_length=60)]) -> Done:
    """Revoke an invitation."""
    now_ms = clock.now_ms()
    acts.do(person.id, "withdrew invitation", id, lambda c: team.withdraw(c, id, now_ms))
    return Done()


@router.patch("/people/{name}", summary="Give somebody another role", responses=described("not-found", "last-owner"))
def set_role(live: TheLive, acts: TheActs, person: SignedIn, name: Name, order: Place) -> Done:
    """Make somebody owner, member or reader. It applies from their next request on."""
    acts.do(person.id, "gave role", f"{name}: {order.role}", lambda c: team.set_role(c, name, order.role))
    # Listeners connect again, with what they may see now.
    live.end(None)
    return Done()


@router.delete("/people/{name}", summary="Remove somebody", responses=described("not-found", "last-owner"))
def remove(clock: TheClock, live: TheLive, acts: TheActs, person: SignedIn, name: Name) -> Done:
    """Remove a person; their sessions and tokens end at once. The record of what they did keeps their name."""
    now_ms = clock.now_ms()
    ended = acts.do(
        person.id,
        "removed person",
        lambda ended: f"{name}; {len(ended)} sessions, links and tokens ended",
        lambda c: team.remove(c, name, now_ms),
    )
    for pass_id in ended:
        live.end(pass_id)
    return Done()


@router.post(
    "/people/{name}/link", summary="Let somebody in by a link", status_code=201, responses=described("not-found")
)
def link(clock: TheClock, acts: TheActs, passes: ThePasses, person: SignedIn, name: Name) -> LinkAnswer:
    """Return a sign-in link that works once, for a day: for somebody who has lost the password, or the device that makes the codes."""
    made, keep = passes.new_link()
    acts.do(person.id, "made sign-in link", f"for {name}", lambda c: keep(c, team.named(c, name)[0]))
    return LinkAnswer(link=made, expires=to_text(clock.now_ms() + LINK_LASTS_MS))


@router.delete("/people/{name}/codes", summary="Remove somebody's one-time codes", responses=described("not-found"))
def stop_codes(acts: TheActs, person: SignedIn, name: Name) -> Done:
    """Remove a person's one-time codes, who has lost the device that makes them."""
    acts.do(person.id, "stopped one-time codes", f"of {name}", lambda c: team.stop_codes(c, team.named(c, name)[0]))
    return Done()


@router.put("/apps/{name}/people", summary="Limit an app to some people", responses=described("not-found"))
def limit(live: TheLive, acts: TheActs, person: SignedIn, name: Name, order: WhoSees) -> Done:
    """Let only owners and these people see an app and its records; with null everybody."""
    who = "everybody" if order.people is None else ", ".join(order.people) or "owners only"
    acts.do(person.id, "limited app", f"{name}: {who}"[:300], lambda c: team.limit_app(c, name, order.people))
    # Listeners connect again, with what they may see now.
    live.end(None)
    return Done()
