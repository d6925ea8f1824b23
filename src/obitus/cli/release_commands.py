"""``obitus releases``, ``release``, ``compare``, ``deploy``: releases, their deploys and their effects."""

from __future__ import annotations

import gzip
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any
from urllib.parse import quote

import typer
from typer.core import TyperGroup

from obitus.cli import show, show_releases
from obitus.cli.api import Api, api, app_meant, pipeline
from obitus.cli.commands import Environment, Json, Token, Url, app, print_json
from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.safe import safe
from obitus.core.clock import to_text
from obitus.core.wording import count_of, minute_of

if TYPE_CHECKING:
    from obitus.core.changes.commits import Commit

COMMITS_A_REQUEST = 500

App = Annotated[str | None, typer.Option("--app", help="The app; needed when there are several.")]
Version = Annotated[str, typer.Argument(metavar="RELEASE", help="The release, such as 3.1.0.")]


class _ShowsByDefault(TyperGroup):
    """Treats ``obitus release 3.1.0`` as ``obitus release show 3.1.0``."""

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            args = ["show", *args]
        return super().resolve_command(ctx, args)


release_group = typer.Typer(
    cls=_ShowsByDefault,
    help="One release: `obitus release 3.1.0` shows it; add, rename or move it.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(release_group, name="release", short_help="Show, add, rename or move a release.")


@app.command(short_help="List an app's releases, newest first.")
def releases(
    app_name: App = None,
    limit: Annotated[int, typer.Option("--limit", min=1, max=100, help="Most releases to show.")] = 20,
    cursor: Annotated[str | None, typer.Option("--cursor", help="Continue after an earlier page.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List an app's releases, newest first: where they are, their rates, what is new, regressed or worse in each."""
    service = api(url, token)
    answer = service.get("/api/releases", {"app": app_meant(service, app_name), "limit": limit, "cursor": cursor})
    print_json(answer) if as_json else show_releases.releases(answer)


@release_group.command("show")
def show_one(
    version: Version,
    app_name: App = None,
    environment: Environment = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show one release: where it is, its rates, what is new, regressed or worse in it, its commits."""
    service = api(url, token)
    answer = service.get(
        f"/api/apps/{app_meant(service, app_name)}/releases/{quote(version, safe='')}", {"environment": environment}
    )
    print_json(answer) if as_json else show_releases.release(answer)


@release_group.command("add")
def add(
    version: Version,
    app_name: App = None,
    git: Annotated[
        Path | None, typer.Option("--git", help="Folder of the git repository, to report the commits of the release.")
    ] = None,
    since: Annotated[
        str | None, typer.Option("--since", help="Where the release before it ended: a tag, branch or commit.")
    ] = None,
    revision: Annotated[
        str | None, typer.Option("--revision", help="The commit of the release. Default: its tag, else HEAD.")
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Make a release known, and with --git report its commits: ids, authors, subjects, touched lines and functions. No source is sent."""
    service = api(url, token)
    name = app_meant(service, app_name)
    if git is None:
        if since or revision:
            raise UsageTrouble("--since and --revision are about a repository: say --git PATH too.")
        answer = service.post(f"/api/apps/{name}/releases", {"release": version})
        print_json(answer) if as_json else show.say(f"{safe(answer['release'])} is known as a release of {name}.")
        return
    from obitus.cli.git import Repository

    repository = Repository(git)
    end, why = _end(repository, version, revision)
    begin, begin_said = _begin(service, repository, name, version, end, since)
    commits = repository.commits(begin, end)
    added = there = 0
    pages = [commits.commits[i : i + COMMITS_A_REQUEST] for i in range(0, len(commits.commits), COMMITS_A_REQUEST)] or [
        []
    ]
    for page in pages:
        body = {"revision": end, "commits": [commit_body(commit) for commit in page]}
        answer = service.post_packed(
            f"/api/apps/{name}/commits/{quote(version, safe='')}", gzip.compress(json.dumps(body).encode())
        )
        added, there = added + answer["added"], there + answer["already_there"]
    if as_json:
        print_json(
            {
                "release": version,
                "revision": end,
                "since": begin,
                "added": added,
                "already_there": there,
                "notes": commits.notes,
            }
        )
        return
    show.say(
        f"{version} of {name}: {count_of(added, 'commit')} reported"
        + (f", {there:,} were there already" if there else "")
        + f"; {why}, since {begin_said}."
    )
    for note in commits.notes:
        show.say(note, show.FAILED)
    if not commits.commits:
        show.say(
            "There is no commit between the two releases. Give --since the commit of the release before.", show.QUIET
        )


@release_group.command("rename")
def rename(
    version: Version,
    name: Annotated[str, typer.Argument(help="Its new name.")],
    app_name: App = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Give a release another name; later reports with the old name count for it."""
    service = api(url, token)
    answer = service.patch(
        f"/api/apps/{app_meant(service, app_name)}/releases/{quote(version, safe='')}", {"name": name}
    )
    print_json(answer) if as_json else show.say(
        f"{safe(version)} is {safe(answer['release'])} now; the old name leads to it too."
    )


@release_group.command("move")
def move(
    version: Version,
    after: Annotated[str | None, typer.Option("--after", help="Place it right after this release.")] = None,
    reset: Annotated[bool, typer.Option("--reset", help="Go back to the order by name and time.")] = False,
    app_name: App = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Correct the order of releases."""
    if (after is None) is not reset:
        raise UsageTrouble("Say --after RELEASE, or --reset.")
    service = api(url, token)
    order = {"in_order": True} if reset else {"after": after}
    answer = service.patch(f"/api/apps/{app_meant(service, app_name)}/releases/{quote(version, safe='')}", order)
    before = f"right after {safe(answer['previous'])}" if answer["previous"] else "first"
    print_json(answer) if as_json else show.say(f"{safe(answer['release'])} comes {before} now.")


@release_group.command("remove")
def remove(
    version: Version,
    app_name: App = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Remove a release from the list, such as one whose name was a mistake. Its failures stay; a report that names it brings it back."""
    service = api(url, token)
    answer = service.delete(f"/api/apps/{app_meant(service, app_name)}/releases/{quote(version, safe='')}")
    print_json(answer) if as_json else show.say(
        f"{safe(version)} is no release of its own any more; its failures stay."
    )


@app.command()
def deploy(
    version: Version,
    app_name: App = None,
    environment: Annotated[
        str | None, typer.Option("--environment", help="Where it arrived; production, or the key's.")
    ] = None,
    at: Annotated[datetime | None, typer.Option("--at", help="When, in UTC; now when absent.")] = None,
    canary: Annotated[
        bool, typer.Option("--canary", help="It runs beside the live release, not in its place.")
    ] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Report that a release arrived in an environment. In a pipeline OBITUS_URL and, as OBITUS_KEY, a key that may deploy are enough; a rollback is a deploy of the older one."""
    order: dict[str, Any] = {"release": version, "canary": canary}
    service = pipeline(url, token)
    if service is not None:
        order |= {name: value for name, value in (("app", app_name), ("environment", environment)) if value}
    else:
        service = api(url, token)
        order |= {"app": app_meant(service, app_name), "environment": environment or "production"}
    if at is not None:
        order["time"] = at.replace(tzinfo=at.tzinfo or UTC).isoformat()
    answer = service.post("/api/deploys", order)
    if as_json:
        print_json(answer)
        return
    how = " as a canary" if answer["canary"] else ""
    show.say(
        f"{safe(answer['release'])} of {answer['app']} arrived in {answer['environment']}{how} at {minute_of(answer['time'])} UTC."
    )


@app.command(short_help="Compare two releases.")
def compare(
    before: Annotated[str, typer.Argument(metavar="BEFORE", help="The release to compare with.")],
    now: Annotated[str, typer.Argument(metavar="NOW", help="The release to compare.")],
    app_name: App = None,
    environment: Environment = None,
    same_time: Annotated[
        bool | None,
        typer.Option("--same-time/--all-time", help="Only hours in which both were live; the default for a canary."),
    ] = None,
    fail_on: Annotated[
        str | None,
        typer.Option(
            "--fail-on", help="End with status 1 when an issue or entry point is one of these, such as new,worse."
        ),
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Compare a release with another one: what is new, regressed, worse, gone, better, unchanged."""
    failing = [kind.strip() for kind in (fail_on or "").split(",") if kind.strip()]
    from obitus.core.comparing import KINDS

    wrong = [kind for kind in failing if kind not in KINDS]
    if wrong:
        raise UsageTrouble(f"--fail-on: {wrong[0]} is none of {', '.join(KINDS)}.")
    service = api(url, token)
    query = {
        "app": app_meant(service, app_name),
        "before": before,
        "now": now,
        "environment": environment,
        "same_time": same_time,
    }
    answer = service.get("/api/compare", query)
    print_json(answer) if as_json else show_releases.compared(answer)
    kinds = {one["kind"] for one in (*answer["issues"], *answer["entry_points"])} & set(failing)
    if kinds:
        raise CliError(f"{now} has what --fail-on names: {', '.join(kind for kind in KINDS if kind in kinds)}.")


def _end(repository: Any, version: str, revision: str | None) -> tuple[str, str]:
    if revision is not None:
        commit = repository.revision(revision)
        if commit is None:
            raise UsageTrouble(f"--revision: the repository knows no {revision}.")
        return commit, f"made of {revision}"
    tagged = repository.tag_of(version)
    if tagged is not None:
        return tagged, "made of its tag"
    head = repository.revision("HEAD")
    if head is None:
        raise UsageTrouble("The repository holds no commit yet.")
    return head, f"made of HEAD ({head[:9]}), since no tag is called like it"


def _begin(
    asked: Api, repository: Any, app_name: str, version: str, end: str, since: str | None
) -> tuple[str | None, str]:
    """Return the commit of the release before: the given one, the one that the service knows, or that of its tag."""
    if since is not None:
        commit = repository.revision(since)
        if commit is None:
            shallow = " It is a shallow clone: git fetch --unshallow." if repository.shallow else ""
            raise UsageTrouble(f"--since: the repository knows no {since}.{shallow}")
        return commit, since
    releases = asked.get(f"/api/apps/{app_name}/revisions")["releases"]
    names = [row["release"] for row in releases]
    older = releases[names.index(version) + 1 :] if version in names else releases
    for row in older[:50]:
        commit = repository.revision(row["revision"]) if row["revision"] else repository.tag_of(row["release"])
        if commit is not None and commit != end and repository.is_before(commit, end):
            return commit, row["release"]
    tag = repository.tag_before(end)
    if tag is not None:
        return repository.revision(f"refs/tags/{tag}"), f"{tag}, the tag before it"
    return None, "the beginning of the repository, for no earlier release is known by its commit or tag (say --since)"


def commit_body(commit: Commit) -> dict[str, Any]:
    """Return a commit in the form that is sent: names and places, no source."""
    return {
        "id": commit.id,
        "time": to_text(max(0, commit.time_ms)),
        "author": commit.author,
        "subject": commit.subject,
        "files": [
            {"path": f.path, "ranges": [list(r) for r in f.ranges], "names": [n[:200] for n in f.names]}
            for f in commit.files
        ],
        "libraries": [
            {"name": c.name[:200], "before": c.before[:100], "after": c.after[:100]} for c in commit.libraries
        ],
    }
