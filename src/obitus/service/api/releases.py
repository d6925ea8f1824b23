"""``/api/releases``, ``/api/deploys``, ``/api/compare``: releases, their deploys and their effects."""

from __future__ import annotations

import asyncio
import sqlite3
from typing import Annotated, Any

from fastapi import Depends, Header, Path, Query, Request
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from obitus.core.changes.commits import Commit, LibraryChange, Touched
from obitus.core.clock import clock_skew_ms, to_ms, to_text
from obitus.core.releases import MOST_CHARACTERS, canonical
from obitus.service.api import answers, compared, release_answers, since
from obitus.service.api.apps import NAME, AppName
from obitus.service.api.asked import TheWindow
from obitus.service.api.compared import Releases
from obitus.service.api.issues import Number
from obitus.service.api.times import Time
from obitus.service.dependencies import TheClock, TheRecords, TheSettings
from obitus.service.intake.bodies import PEOPLE, read_whole
from obitus.service.intake.intake import TheIntake
from obitus.service.intake.prepare import SKEW_TO_CORRECT_MS
from obitus.service.intake.senders import reporting_key
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.secrets import KEY_PREFIX
from obitus.service.sign_in.access import SignedIn, person_asking, signed_in
from obitus.service.sign_in.passes import ThePasses
from obitus.service.wrong_values import wrong_field
from obitus.store import commits, events, people
from obitus.store import releases as store
from obitus.store.apps import app_named
from obitus.store.records import Records

router = Router(
    prefix="/api",
    tags=["releases"],
    responses=described("not-signed-in", "bad-field", "not-found", "query-too-long", "store-broken"),
)
READS = [Depends(signed_in)]
MOST_AHEAD_MS = 5 * 60_000
MOST_COMMITS = 5000

Version = Annotated[str, Path(min_length=1, max_length=MOST_CHARACTERS, description="The release.")]
Environment = Annotated[str | None, Query(max_length=100, description="Only this environment; all when absent.")]


class NewRelease(BaseModel):
    """A release to announce."""

    model_config = ConfigDict(extra="forbid")

    release: str = Field(min_length=1, max_length=MOST_CHARACTERS)


class Correction(BaseModel):
    """Corrections of a release."""

    model_config = ConfigDict(extra="forbid")

    name: str | None = Field(
        default=None, min_length=1, max_length=MOST_CHARACTERS, description="Its new name; the old one stays known."
    )
    after: str | None = Field(default=None, max_length=MOST_CHARACTERS, description="Put it right after this release.")
    in_order: bool = Field(default=False, strict=True, description="Take an earlier correction of the order back.")


class NewDeploy(BaseModel):
    """A deploy: the arrival of a release in an environment."""

    model_config = ConfigDict(extra="forbid")

    release: str = Field(min_length=1, max_length=MOST_CHARACTERS)
    app: str | None = Field(
        default=None, pattern=NAME, max_length=60, description="The app; with a reporting key, the key's."
    )
    environment: str | None = Field(
        default=None, pattern=NAME, max_length=60, description="Where; production when absent, or the key's."
    )
    time: Time | None = Field(default=None, description="When, RFC 3339 with an offset; now when absent.")
    canary: bool = Field(default=False, strict=True, description="It runs beside the live release, not in its place.")


class NewFile(BaseModel):
    """A file that a commit touched."""

    model_config = ConfigDict(extra="forbid")

    path: str = Field(max_length=1000)
    ranges: list[tuple[int, int]] = Field(default_factory=list, max_length=300)
    names: list[Annotated[str, Field(max_length=200)]] = Field(default_factory=list, max_length=100)


class NewLibrary(BaseModel):
    """A library whose version a commit changed."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field(max_length=200)
    before: str = Field(default="", max_length=100)
    after: str = Field(default="", max_length=100)


class NewCommit(BaseModel):
    """A commit: names and places, no source."""

    model_config = ConfigDict(extra="forbid")

    id: str = Field(pattern=r"^[0-9a-f]{7,64}$")
    time: Time
    author: str = Field(default="", max_length=200)
    subject: str = Field(default="", max_length=300)
    files: list[NewFile] = Field(default_factory=list, max_length=1000)
    libraries: list[NewLibrary] = Field(default_factory=list, max_length=2000)


class NewCommits(BaseModel):
    """Commits of a release."""

    model_config = ConfigDict(extra="forbid")

    revision: str | None = Field(
        default=None, pattern=r"^[0-9a-f]{7,64}$", description="The commit that the release was made of."
    )
    commits: list[NewCommit] = Field(max_length=MOST_COMMITS)


_FILE_SCHEMA = {
    "type": "object",
    "properties": {
        "path": {"type": "string", "description": "As it is called in the release."},
        "ranges": {
            "type": "array",
            "items": {"type": "array", "items": {"type": "integer"}},
            "description": "First and last lines touched, by the numbering of the release.",
        },
        "names": {
            "type": "array",
            "items": {"type": "string"},
            "description": "Functions, classes and constants touched.",
        },
    },
    "required": ["path"],
}
_LIBRARY_SCHEMA = {
    "type": "object",
    "properties": {name: {"type": "string"} for name in ("name", "before", "after")},
    "required": ["name"],
}
_COMMIT_SCHEMA = {
    "type": "object",
    "properties": {
        **{name: {"type": "string"} for name in ("id", "author", "subject")},
        "time": {"type": "string", "format": "date-time"},
        "files": {"type": "array", "items": _FILE_SCHEMA},
        "libraries": {"type": "array", "items": _LIBRARY_SCHEMA},
    },
    "required": ["id", "time"],
}
_COMMITS_SCHEMA = {
    "type": "object",
    "properties": {
        "revision": {
            "anyOf": [{"type": "string", "pattern": "^[0-9a-f]{7,64}$"}, {"type": "null"}],
            "description": "The commit that the release was made of.",
        },
        "commits": {"type": "array", "items": _COMMIT_SCHEMA},
    },
    "required": ["commits"],
}


@router.get("/releases", summary="An app's releases", dependencies=READS, responses=described("bad-cursor"))
def releases(
    records: TheRecords,
    app: Annotated[str, Query(max_length=100, description="The app.")],
    limit: Annotated[int, Query(ge=1, le=100)] = 20,
    cursor: Annotated[str | None, Query(max_length=20, description="`next` of the page before.")] = None,
) -> release_answers.ReleasesAnswer:
    """Return releases, newest first: deploys, rates, and what is new, regressed or worse in each."""
    releases_of_app = Releases(records, app)
    if cursor is not None and not cursor.isdecimal():
        raise Problem("bad-cursor", "This cursor was not given out for this list. Start without one.", field="cursor")
    start = int(cursor or 0)
    versions = [release.version for release in reversed(releases_of_app.order.releases)]
    page = versions[start : start + limit]
    more = start + limit < len(versions)
    return release_answers.ReleasesAnswer(
        app=app,
        releases=compared.release_rows(releases_of_app, page),
        releases_in_all=len(versions),
        next=str(start + limit) if more else None,
    )


@router.get("/apps/{name}/releases/{release:path}", summary="One release, whole", dependencies=READS)
def release(
    records: TheRecords, name: AppName, release: Version, environment: Environment = None
) -> release_answers.ReleaseAnswer:
    """Return one release: where it is, its rates, what is new, regressed or worse in it, its commits."""
    releases_of_app = Releases(records, name)
    return compared.release_answer(releases_of_app, releases_of_app.named(release), environment or None)


@router.post(
    "/apps/{name}/releases",
    summary="Announce a release",
    status_code=201,
    responses=described("foreign-origin", "too-many"),
)
def add_release(
    records: TheRecords, person: SignedIn, name: AppName, order: NewRelease
) -> release_answers.ReleaseAnswer:
    """Announce a release before its first report. A known one stays as it is."""
    app_id, version = app_named(records.reader, name).id, _checked(order.release)
    records.writer.run(lambda c: store.announce(c, app_id, version))
    releases_of_app = Releases(records, name)
    return compared.release_answer(releases_of_app, releases_of_app.named(version), None)


@router.patch(
    "/apps/{name}/releases/{release:path}",
    summary="Correct a release",
    responses=described("already-there", "foreign-origin"),
)
def correct(
    records: TheRecords, person: SignedIn, name: AppName, release: Version, order: Correction
) -> release_answers.ReleaseAnswer:
    """Rename a release, or correct its place in the order."""
    releases_of_app = Releases(records, name)
    app_id, version = releases_of_app.app_id, releases_of_app.named(release)
    if order.after is not None or order.in_order:
        behind = canonical(order.after) if order.after is not None and not order.in_order else None
        records.writer.run(lambda c: store.put_behind(c, app_id, version, behind))
    if order.name is not None:
        new = _checked(order.name)
        records.writer.run(lambda c: store.rename(c, app_id, version, new))
        version = new
    return compared.release_answer(Releases(records, name), version, None)


@router.delete(
    "/apps/{name}/releases/{release:path}",
    summary="Remove a release",
    responses=described("foreign-origin"),
)
def remove(records: TheRecords, clock: TheClock, person: SignedIn, name: AppName, release: Version) -> answers.Done:
    """Remove a release from the list, such as one whose name was a mistake. Its failures stay; a report that names
    it adds it again."""
    releases_of_app, now_ms = Releases(records, name), clock.now_ms()
    version = releases_of_app.named(release)

    def act(connection: sqlite3.Connection) -> None:
        store.remove(connection, releases_of_app.app_id, version, now_ms)
        people.note_act(connection, person.id, "removed release", f"{name} {version}", now_ms)
        events.add(connection, "release-changed", now_ms, app=name, release=version)

    records.writer.run(act)
    return answers.Done()


@router.post(
    "/apps/{name}/commits/{release:path}",
    summary="Report the commits of a release",
    status_code=201,
    responses=described("foreign-origin", "body-too-large", "inflates-too-large", "bad-request", "too-many"),
    openapi_extra={"requestBody": {"required": True, "content": {"application/json": {"schema": _COMMITS_SCHEMA}}}},
)
async def add_commits(
    request: Request,
    records: TheRecords,
    settings: TheSettings,
    intake: TheIntake,
    person: SignedIn,
    name: AppName,
    release: Version,
) -> dict[str, int]:
    """Store commit ids, authors, times, subjects, and which lines and functions they touched. `Content-Encoding` may be `gzip`."""
    # Keys of apps have numbers from 1 on: people share the number 0.
    async with intake.gate.entered(PEOPLE) as held:
        body = await read_whole(request, settings.limits, held)
        return await asyncio.to_thread(_add_commits, records, name, release, body)


def _add_commits(records: Records, name: str, release: str, body: bytes) -> dict[str, int]:
    try:
        order = NewCommits.model_validate_json(body)
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        raise wrong_field(first["loc"], first) from None
    app_id, version = app_named(records.reader, name).id, _checked(release)
    reported = [
        Commit(
            commit.id,
            to_ms(commit.time),
            commit.author,
            commit.subject,
            [Touched(file.path, file.ranges, file.names) for file in commit.files],
            [LibraryChange(library.name, library.before, library.after) for library in commit.libraries],
        )
        for commit in order.commits
    ]
    added = records.writer.run(lambda c: commits.add(c, store.announce(c, app_id, version), reported, order.revision))
    return {"added": added, "already_there": len(reported) - added}


@router.get("/apps/{name}/revisions", summary="Revisions of releases", dependencies=READS)
def revisions(records: TheRecords, name: AppName) -> dict[str, Any]:
    """Return releases newest first with their commits, for reporting the commits of the next one."""
    releases_of_app = Releases(records, name)
    found = commits.revisions(records.reader, releases_of_app.app_id)
    return {
        "releases": [
            {"release": one.version, "revision": found.get(one.version, "")}
            for one in reversed(releases_of_app.order.releases)
        ][:500]
    }


def who_deploys(request: Request, intake: TheIntake, passes: ThePasses) -> tuple[str, str | None, str | None]:
    """Return who reports a deploy, and the app and environment of a reporting key."""
    header = request.headers.get("authorization", "")
    if header.partition(" ")[2].strip().startswith(KEY_PREFIX):
        key = reporting_key(intake, header)
        if not key.may_deploy:
            raise Problem(
                "not-this-key",
                f"This reporting key of {key.app} may not report deploys. Make one that may: obitus app key {key.app} --may-deploy.",
            )
        return "pipeline", key.app, key.environment
    bearer = header.partition(" ")[2].strip()
    return person_asking(passes, request, bearer or None).name, None, None


@router.post(
    "/deploys",
    summary="Report that a release arrived",
    status_code=201,
    responses=described(
        "no-key", "unknown-key", "revoked-key", "foreign-origin", "not-this-key", "deploy-ahead", "too-many"
    ),
)
def add_deploy(
    records: TheRecords,
    clock: TheClock,
    order: NewDeploy,
    who: Annotated[tuple[str, str | None, str | None], Depends(who_deploys)],
    obitus_clock: Annotated[
        str | None, Header(description="What time the sender's clock shows; corrects `time`.")
    ] = None,
) -> release_answers.DeployAnswer:
    """Report that a release arrived in an environment. In a pipeline a reporting key of that app and environment that may deploy is enough.

    A rollback is the deploy of an older release. Reported twice with the same time, it is one deploy.
    """
    person, app, environment = who
    for order_value, bound, what in ((order.app, app, "app"), (order.environment, environment, "environment")):
        if bound is not None and order_value is not None and order_value != bound:
            raise Problem(
                "not-this-key",
                f"This reporting key is for {bound}, not for {order_value}. Use a key of its own.",
                field=what,
            )
    app = app or order.app
    environment = environment or order.environment or "production"
    if app is None:
        raise Problem("bad-field", "Say of which app: app.", field="app")
    app_id, version, now_ms = app_named(records.reader, app).id, _checked(order.release), clock.now_ms()
    time_ms = now_ms
    if order.time is not None:
        skew_ms = clock_skew_ms(obitus_clock, now_ms)
        time_ms = to_ms(order.time) + (skew_ms if abs(skew_ms) >= SKEW_TO_CORRECT_MS else 0)
    if time_ms > now_ms + MOST_AHEAD_MS:
        raise Problem(
            "deploy-ahead",
            f"{to_text(time_ms)} is later than now, {to_text(now_ms)}. Report a deploy once it has happened; is the clock right?",
            field="time",
        )
    time_ms = min(time_ms, now_ms)
    records.writer.run(
        lambda c: store.deploy(
            c, app_id, version, environment, time_ms, canary=order.canary, reported_by=person, now_ms=now_ms
        )
    )
    return release_answers.DeployAnswer(
        app=app,
        release=version,
        environment=environment,
        time=to_text(time_ms),
        inferred=False,
        canary=order.canary,
        reported_by=person,
    )


@router.get("/deploys", summary="Deploys", dependencies=READS, responses=described("bad-window"))
def deploys(records: TheRecords, window: TheWindow) -> release_answers.DeploysAnswer:
    """Return the deploys inside the window, latest first: the marks on charts over time."""
    found = store.deploys(records.reader, window.from_ms, window.to_ms, window.app, window.environment)
    return release_answers.DeploysAnswer(deploys=[compared.deploy_answer(row, row.app) for row in found])


@router.get("/compare", summary="Compare two releases", dependencies=READS)
def compare(
    records: TheRecords,
    app: Annotated[str, Query(max_length=100)],
    before: Annotated[str, Query(max_length=MOST_CHARACTERS, description="The release to compare with.")],
    now: Annotated[str, Query(max_length=MOST_CHARACTERS, description="The release to compare.")],
    environment: Environment = None,
    same_time: Annotated[
        bool | None, Query(description="Only hours in which both were live; when absent, so for a canary and not else.")
    ] = None,
) -> release_answers.CompareAnswer:
    """Compare a release with another: new, regressed, worse, gone, better, unchanged; by rates, with exact tests."""
    releases_of_app = Releases(records, app)
    return compared.compare(
        releases_of_app,
        releases_of_app.named(before),
        releases_of_app.named(now),
        environment or None,
        same_time=same_time,
    )


@router.get("/issues/{number}/since", summary="Since when, did the fix hold, which change did it", dependencies=READS)
def since_when(records: TheRecords, clock: TheClock, number: Number) -> release_answers.SinceAnswer:
    """Return an issue's releases, the verdicts on its fix, what revealed it, and the likely changes."""
    return since.since_answer(records, clock, number)


def _checked(version: str) -> str:
    checked = canonical(version)
    if not checked or any(ord(sign) < 32 or ord(sign) == 127 for sign in version):
        raise Problem(
            "bad-field",
            "A release needs a name without control characters, such as 3.1.0 or a commit hash.",
            field="release",
        )
    return checked
