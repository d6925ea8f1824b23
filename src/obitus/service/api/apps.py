"""``/api/apps``: apps and their reporting keys."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Sequence
from typing import Annotated, Literal

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.kinds import KINDS, PAGE, settings_lines
from obitus.core.origins import origin_of
from obitus.service import secrets
from obitus.service.api import answers, app_answers, views
from obitus.service.clock import Clock
from obitus.service.dependencies import TheClock, TheRecords, TheSettings
from obitus.service.intake.intake import Intake, TheIntake
from obitus.service.pages import client_wheel
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.settings import Settings
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import Acts, TheActs
from obitus.store import apps as store
from obitus.store import people, removing
from obitus.store.rows.apps import App, AppRelease, Key

router = Router(
    prefix="/api",
    tags=["apps"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

MOST_ORIGINS = 20
"""Origins that one key may report from."""
NAME = r"^[a-z][a-z0-9-]*$"
AppName = Annotated[str, Path(pattern=NAME, max_length=60, description="The app's name.")]


class NewApp(BaseModel):
    """An app to add."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(pattern=NAME, max_length=60, description="Lower case letters, digits and dashes.")
    kind: Literal["fastapi", "flask", "django", "celery", "script", "command", "opentelemetry"] = Field(
        default="fastapi", description="What the set-up page explains."
    )
    environment: str = Field(
        default="production", pattern=NAME, max_length=60, description="What its first key is for."
    )


class NewKey(BaseModel):
    """A key to make."""

    model_config = ConfigDict(extra="forbid")

    environment: str = Field(default="production", pattern=NAME, max_length=60, description="What the key is for.")
    may_add_apps: bool = Field(
        default=False,
        strict=True,
        description="Whether OpenTelemetry senders with it may report for the apps and environments that they name, "
        "new ones included.",
    )
    may_deploy: bool = Field(default=False, strict=True, description="Whether a pipeline may report deploys with it.")
    origins: list[Annotated[str, Field(max_length=300)]] = Field(
        default=[],
        max_length=MOST_ORIGINS,
        description="Makes it a key for pages, which everybody may read: the origins that may report with it, such as `https://pier.skerry.example`.",
    )


class KeyDay(BaseModel):
    """The bounds of a key for a day; null for the usual ones."""

    model_config = ConfigDict(extra="forbid")

    reports: int | None = Field(ge=1, le=10**12)
    bytes: int | None = Field(ge=1, le=10**15, description="Of bodies as they are sent.")


@router.get("/apps", summary="All apps")
def apps(records: TheRecords, intake: TheIntake) -> app_answers.AppsAnswer:
    """Return all apps with their keys and releases."""
    releases = store.releases(records.reader)
    keys = store.keys(records.reader)
    return app_answers.AppsAnswer(
        apps=[
            _answer(
                intake,
                row,
                [key for key in keys if key.app_id == row.id],
                [release for release in releases if release.app_id == row.id],
            )
            for row in store.apps(records.reader)
        ],
        kinds=[app_answers.KindAnswer(name=kind.name, title=kind.title) for kind in KINDS.values()],
        environments=store.environments(records.reader),
        releases=views.newest_first(releases),
    )


@router.get("/apps/{name}", summary="One app", responses=described("not-found"))
def app(records: TheRecords, intake: TheIntake, name: AppName) -> app_answers.AppAnswer:
    """Return one app; its first report and its latest refusal show whether reports arrive."""
    row = store.app_named(records.reader, name)
    return _answer(intake, row, store.keys(records.reader, row.id), store.releases(records.reader, row.id))


@router.post("/apps", summary="Add an app", status_code=201, responses=described("already-there"))
def add_app(
    clock: TheClock, settings: TheSettings, acts: TheActs, person: SignedIn, order: NewApp
) -> app_answers.NewKeyAnswer:
    """Add an app with its first reporting key, which is shown this once."""
    now_ms = clock.now_ms()
    return _new_key(
        clock,
        settings,
        acts,
        person,
        lambda c: store.add_app(c, order.name, order.kind, now_ms),
        order.name,
        order.kind,
        order.environment,
    )


@router.delete("/apps/{name}", summary="Remove an app", responses=described("not-found", "foreign-origin"))
def remove(clock: TheClock, acts: TheActs, person: SignedIn, name: AppName) -> answers.Done:
    """Remove an app for good: its keys are revoked and its issues removed at once, and its reports are deleted in the background."""
    now_ms = clock.now_ms()

    acts.do(person.id, "removed app", name, lambda c: removing.hide(c, name, now_ms))
    return answers.Done()


@router.post("/apps/{name}/keys", summary="Make a reporting key", status_code=201, responses=described("not-found"))
def add_key(
    records: TheRecords,
    clock: TheClock,
    settings: TheSettings,
    acts: TheActs,
    person: SignedIn,
    name: AppName,
    order: NewKey,
) -> app_answers.NewKeyAnswer:
    """Make another reporting key, which is shown this once."""
    row = store.app_named(records.reader, name)
    return _new_key(
        clock,
        settings,
        acts,
        person,
        lambda _: int(row.id),
        name,
        row.kind,
        order.environment,
        may_add_apps=order.may_add_apps,
        may_deploy=order.may_deploy,
        origins=_origins(order),
    )


@router.delete("/apps/{name}/keys/{key}", summary="Revoke a reporting key", responses=described("not-found"))
def revoke(
    records: TheRecords,
    clock: TheClock,
    acts: TheActs,
    person: SignedIn,
    name: AppName,
    key: Annotated[int, Path(ge=1, le=2**62)],
) -> answers.Done:
    """Revoke a key for good; reports with it are refused from now on."""
    row = store.app_named(records.reader, name)
    now_ms = clock.now_ms()
    acts.do(person.id, "revoked key", f"{name} {key}", lambda c: store.revoke_key(c, row.id, key, now_ms))
    return answers.Done()


@router.put(
    "/apps/{name}/keys/{key}/day", summary="Set how much may come with a key in a day", responses=described("not-found")
)
def bound_key(
    records: TheRecords,
    acts: TheActs,
    intake: TheIntake,
    person: SignedIn,
    name: AppName,
    key: Annotated[int, Path(ge=1, le=2**62)],
    order: KeyDay,
) -> app_answers.AppAnswer:
    """Set how many reports and bytes may come with a key in a day. It takes effect at once, for today's reports too."""
    row = store.app_named(records.reader, name)
    what = ", ".join(
        f"{'the bound for all' if value is None else f'{value:,}'} {unit} a day"
        for value, unit in ((order.reports, "reports"), (order.bytes, "bytes"))
    )
    acts.do(
        person.id,
        "bounded key",
        f"{name} {key}: {what}",
        lambda c: store.bound_key(c, row.id, key, order.reports, order.bytes),
    )
    return app(records, intake, name)


def _new_key(
    clock: Clock,
    settings: Settings,
    acts: Acts,
    person: people.Person,
    app_of: Callable[[sqlite3.Connection], int],
    app: str,
    kind: str,
    environment: str,
    *,
    may_add_apps: bool = False,
    may_deploy: bool = False,
    origins: Sequence[str] = (),
) -> app_answers.NewKeyAnswer:
    prefix = secrets.PAGE_KEY_PREFIX if origins else secrets.KEY_PREFIX
    key, now_ms = secrets.new_secret(prefix), clock.now_ms()
    what_for = f" for pages of {', '.join(origins)}" if origins else " for deploys" if may_deploy else ""
    key_id = acts.do(
        person.id,
        "made key",
        lambda made: f"{app} {environment} {made}{what_for}",
        lambda c: store.add_key(
            c,
            app_of(c),
            environment,
            secrets.hash_of(key),
            key[-4:],
            now_ms,
            may_add_apps=may_add_apps,
            may_deploy=may_deploy,
            origins=json.dumps(origins) if origins else "",
        ),
    )
    url, explained = settings.url, PAGE if origins else KINDS[kind]
    return app_answers.NewKeyAnswer(
        app=app,
        id=key_id,
        environment=environment,
        key=key,
        url=url,
        kind=kind,
        settings="" if origins else settings_lines(url, key, kind=kind),
        install=client_wheel.requirement(url, explained.install) if explained.install else "",
        steps=[
            app_answers.SetUpStep(
                title=step.title, lines=step.lines.format(url=url, key=key) if origins else step.lines
            )
            for step in explained.steps
        ],
        then=explained.then,
    )


def _origins(order: NewKey) -> list[str]:
    """Return the origins of a key, as browsers write them; raises a problem."""
    if order.origins and (order.may_add_apps or order.may_deploy):
        raise Problem("bad-field", "A key for pages is read by everybody: it may only report.", field="origins")
    origins = []
    for given in order.origins:
        origin = origin_of(given)
        if origin is None:
            raise Problem(
                "bad-field",
                f"{given[:80]!r} is no origin. Say scheme, host and port: https://pier.skerry.example",
                field="origins",
            )
        origins.append(origin)
    return list(dict.fromkeys(origins))


def _answer(intake: Intake, row: App, keys: list[Key], releases: list[AppRelease]) -> app_answers.AppAnswer:
    stranger = intake.refusals.latest("")
    return app_answers.AppAnswer(
        name=row.name,
        kind=row.kind,
        created=to_text(row.created_ms),
        first_report=views.time_text(row.first_report_ms),
        last_report=views.time_text(row.last_report_ms),
        last_refusal=_refusal(intake.refusals.latest(row.name)),
        last_remark=_refusal(intake.remarks.latest(row.name)),
        last_unknown_key=to_text(stranger[0]) if stranger else None,
        client=client[1] if (client := intake.clients.latest(row.name)) is not None else None,
        releases=views.newest_first(releases),
        keys=[
            app_answers.KeyAnswer(
                id=key.id,
                environment=key.environment,
                hint=key.hint,
                created=to_text(key.created_ms),
                revoked=views.time_text(key.revoked_ms),
                may_add_apps=bool(key.may_add_apps),
                may_deploy=bool(key.may_deploy),
                origins=json.loads(key.origins or "[]"),
                today=_today(intake, key),
            )
            for key in keys
        ],
    )


def _today(intake: Intake, key: Key) -> app_answers.KeyDayAnswer:
    use = intake.day_use.of(key)
    return app_answers.KeyDayAnswer(
        reports=use.reports,
        bytes=use.bytes,
        most_reports=use.most_reports,
        most_bytes=use.most_bytes,
        part=round(use.part, 4),
        full=views.time_text(use.full_ms),
    )


def _refusal(refusal: tuple[int, str, str] | None) -> app_answers.RefusalAnswer | None:
    if refusal is None:
        return None
    return app_answers.RefusalAnswer(time=to_text(refusal[0]), slug=refusal[1], reason=refusal[2])
