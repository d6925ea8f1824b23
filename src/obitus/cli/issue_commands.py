"""``obitus issues``, ``issue``, ``accept``, ``settle``, ``park``: what failed, and what was decided about it."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import typer
from rich.text import Text

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
from obitus.cli.safe import safe


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
    cursor: Annotated[str | None, typer.Option("--cursor", help="Go on after an earlier page.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List issues that failed inside a window."""
    check_window(window)
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
    answer = api(url, token).get("/api/issues", query)
    print_json(answer) if as_json else show.issues(answer, now_ms(), asked=bool(question))


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
    asked = api(url, token)
    answer = asked.get(f"/api/issues/{number}", {"window": window})
    since = asked.get(f"/api/issues/{number}/since")
    print_json(answer | {"since": since}) if as_json else show_issue.issue(
        answer, since, now_ms(), all_frames=all_frames
    )


@app.command()
def accept(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Say that somebody works on an issue."""
    _decide(number, "accept", {}, url, token, as_json)


@app.command(short_help="Say that an issue is fixed, and where.")
def settle(
    numbers: Annotated[
        list[int], typer.Argument(metavar="NUMBER…", help="The issues' numbers, of one app or several.", min=1)
    ],
    where: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="RELEASE|coming|now",
            help="From when it is fixed: a release, the coming one, or now; the newest known release when absent.",
        ),
    ] = None,
    environment: Annotated[str | None, typer.Option("--environment", help="Settle it there only.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Settle an issue: fixed from a release, from the coming one, or from now. Seen where the fix should be, it becomes regressed."""
    order = {"how": where} if where in ("coming", "now") else {"release": where} if where else {}
    for number in numbers:
        _decide(number, "settle", order | ({"environment": environment} if environment else {}), url, token, as_json)


@app.command()
def park(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Put an issue aside; its failures go on being counted."""
    _decide(number, "park", {}, url, token, as_json)


@app.command(short_help="Say how much an issue matters.")
def priority(
    number: Number,
    level: Annotated[
        Literal["high", "middle", "low", "worked-out"], typer.Argument(help="`worked-out` leaves it to Obitus again.")
    ],
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Correct the priority that was worked out."""
    asked = api(url, token)
    asked.post(f"/api/issues/{number}/priority", {"level": None if level == "worked-out" else level})
    answer = asked.get(f"/api/issues/{number}")
    if as_json:
        print_json(answer)
        return
    show.say(f"Issue {number}: {answer['priority']['level']} priority. {safe(answer['priority']['reason'])}.")


@app.command(short_help="Take an issue: say that you take care of it.")
def take(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Take an issue: you have it from now on."""
    asked = api(url, token)
    _hand_over(asked, number, {"to": asked.get("/api/me")["name"]}, as_json)


@app.command("hand-over", short_help="Hand an issue to somebody, or put it back.")
def hand_over(
    number: Number,
    to: Annotated[str | None, typer.Option("--to", help="Who has it from now on; nobody, when it is left out.")] = None,
    waits_for: Annotated[str, typer.Option("--waits-for", help="Whom or what it waits for, in words.")] = "",
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Hand an issue to one of the people, or put it back for somebody to take up."""
    _hand_over(api(url, token), number, {"to": to, "waits_for": waits_for}, as_json)


def _hand_over(asked: Api, number: int, order: dict[str, Any], as_json: bool) -> None:
    asked.post(f"/api/issues/{number}/hand-over", order)
    answer = asked.get(f"/api/issues/{number}")
    if as_json:
        print_json(answer)
        return
    waits = f", and waits for {safe(answer['waits_for'])}" if answer["waits_for"] else ""
    show.say(f"Issue {number} is with {safe(answer['holder'] or 'nobody')}{waits}.")


def _decide(
    number: int, decision: str, body: dict[str, Any], url: str | None, token: str | None, as_json: bool
) -> None:
    asked = api(url, token)
    asked.post(f"/api/issues/{number}/{decision}", body)
    answer = asked.get(f"/api/issues/{number}")
    if as_json:
        print_json(answer)
    else:
        last = safe(answer["history"][-1]["reason"]) if answer["history"] else ""
        show.console.print(Text(f"Issue {number}: ").append_text(show.state_text(answer["state"])).append(f". {last}"))
