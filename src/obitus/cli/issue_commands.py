"""``obitus issues``, ``issue``, ``earlier``: what failed, and similar earlier issues."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import typer

from obitus.cli import show, show_issue
from obitus.cli.api import Api, api
from obitus.cli.commands import (
    App,
    Environment,
    Json,
    Number,
    Release,
    Token,
    Url,
    Window,
    app,
    check_window,
    now_ms,
    print_json,
)
from obitus.cli.errors import UsageTrouble


@app.command()
def issues(
    question: Annotated[
        str | None,
        typer.Argument(help="What to ask, such as: 'user.id=p-102 entry_point~boardings'. See docs/questions.md."),
    ] = None,
    window: Window = "24h",
    app_name: App = None,
    environment: Environment = None,
    release: Release = None,
    state: Annotated[list[str] | None, typer.Option("--state", help="Only this state; may be repeated.")] = None,
    sort: Annotated[
        Literal["last-seen", "first-seen", "failures"], typer.Option("--sort", help="Order.")
    ] = "last-seen",
    limit: Annotated[int, typer.Option("--limit", min=1, max=200, help="Most issues to show.")] = 20,
    cursor: Annotated[str | None, typer.Option("--cursor", help="Continue after an earlier page.")] = None,
    of_list: Annotated[
        str | None, typer.Option("--list", help="The name of a saved list; obitus lists names them.")
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List issues that failed inside a window."""
    check_window(window)
    service = api(url, token)
    if of_list is not None:
        view = _view_of(service, of_list)
        question = " ".join(
            part for part in (f"({view['question']})" if view.get("question") else "", question) if part
        )
        state, sort = [view["state"]] if view.get("state") else state, view.get("sort") or sort
    query = {
        "window": window,
        "app": app_name,
        "environment": environment,
        "release": release,
        "state": state,
        "question": question,
        "sort": sort,
        "limit": limit,
        "cursor": cursor,
    }
    answer = service.get("/api/issues", query)
    print_json(answer) if as_json else show.issues(answer, now_ms(), asked=bool(question))


def _view_of(asked: Api, name: str) -> dict[str, Any]:
    """Return the question of a saved list; raises UsageTrouble where there is none of that name."""
    lists = asked.get("/api/lists")["lists"]
    view = next((listed["view"] for listed in lists if listed["name"] == name), None)
    if view is None:
        names = ", ".join(listed["name"] for listed in lists) or "none is saved yet"
        raise UsageTrouble(f"There is no list named {name!r}. There are: {names}.")
    return dict(view)


@app.command(short_help="Show one issue as a report.")
def issue(
    number: Number,
    window: Window = "24h",
    all_frames: Annotated[bool, typer.Option("--all-frames", help="Show library frames too.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show one issue as a report: what failed, where, what led up to it, since when, why it is one."""
    check_window(window)
    service = api(url, token)
    answer = service.get(f"/api/issues/{number}", {"window": window})
    since = service.get(f"/api/issues/{number}/since")
    print_json(answer | {"since": since}) if as_json else show_issue.issue(
        answer, since, now_ms(), all_frames=all_frames
    )


@app.command(short_help="Show settled issues that looked like one.")
def earlier(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show issues that were settled and looked like this one, with what was known and done then."""
    answer = api(url, token).get(f"/api/issues/{number}/earlier")
    print_json(answer) if as_json else show_issue.earlier(answer, now_ms())
