"""``obitus accept``, ``settle``, ``park``, ``take``, ``hand-over``, ``priority``, ``take-back``: decisions about issues."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any, Literal

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import Api, api
from obitus.cli.commands import Json, Number, Token, Url, app, print_json, time_of
from obitus.cli.errors import NotFound, Refused, UsageTrouble
from obitus.cli.safe import safe
from obitus.core.clock import span_ms
from obitus.core.parking import ANOTHER
from obitus.core.wording import count_of

Numbers = Annotated[
    list[int], typer.Argument(metavar="NUMBER…", help="The issues' numbers, of one app or several.", min=1)
]


@app.command(short_help="Say that somebody works on issues.")
def accept(numbers: Numbers, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Say that somebody works on issues. Unassigned ones become yours."""
    _decide(api(url, token), numbers, {"accept": True}, as_json)


@app.command(short_help="Say that issues are fixed, and where.")
def settle(
    numbers: Numbers,
    where: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="RELEASE|coming|now",
            help="Where the fix begins: a release, the coming one, or now. Default: the newest known release.",
        ),
    ] = None,
    environment: Annotated[str | None, typer.Option("--environment", help="Settle it there only.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Settle issues: fixed from a release, from the coming one, or from now. An issue that fails in a release with the fix becomes regressed."""
    order = {"how": where} if where in ("coming", "now") else {"release": where} if where else {}
    order |= {"environment": environment} if environment else {}
    _decide(api(url, token), numbers, {"settle": order}, as_json)


@app.command(short_help="Put issues aside until something happens.")
def park(
    numbers: Numbers,
    until: Annotated[
        str | None,
        typer.Option("--until", metavar="TIME", help="A time: 2026-12-02T09:00, or 09:00; UTC without an offset."),
    ] = None,
    lasts: Annotated[str | None, typer.Option("--for", metavar="SPAN", help="A time span: 4h, 3d, 2w.")] = None,
    failures: Annotated[int | None, typer.Option("--failures", help="A number of further failures.", min=1)] = None,
    an_hour: Annotated[
        int | None, typer.Option("--an-hour", help="A number of failures within one hour.", min=1)
    ] = None,
    people: Annotated[int | None, typer.Option("--people", help="A number of further people.", min=1)] = None,
    another: Annotated[
        list[str] | None,
        typer.Option("--another", help="A failure in another release, environment or app; may be repeated."),
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Put issues aside until the first of these comes true; without any, until somebody decides. Failures are still counted."""
    if until is not None and lasts is not None:
        raise UsageTrouble("Say --until or --for, not both.")
    length_ms = span_ms(lasts) if lasts is not None else None
    if lasts is not None and length_ms is None:
        raise UsageTrouble(f"{lasts!r} is no span of time. Say 4h, 3d or 2w.")
    if wrong := set(another or ()) - set(ANOTHER):
        raise UsageTrouble(f"{min(wrong)!r} is none of release, environment and app.")
    time = time_of(until)
    if length_ms is not None:
        time = datetime.fromtimestamp(datetime.now(UTC).timestamp() + length_ms / 1000, UTC).isoformat()
    order = {"until": time, "failures": failures, "an_hour": an_hour, "people": people, "another": another or []}
    _decide(api(url, token), numbers, {"park": order}, as_json)


@app.command(short_help="Say how much an issue matters.")
def priority(
    number: Number,
    level: Annotated[
        Literal["high", "middle", "low", "computed"], typer.Argument(help="`computed` leaves it to Obitus again.")
    ],
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Set the priority by hand."""
    _decide(api(url, token), [number], {"priority": {"level": None if level == "computed" else level}}, as_json)


@app.command(short_help="Take issues: say that you take care of them.")
def take(numbers: Numbers, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Take issues: they become yours."""
    service = api(url, token)
    _decide(service, numbers, {"hand_over": {"to": service.get("/api/me")["name"]}}, as_json)


@app.command("hand-over", short_help="Hand issues to somebody, or put them back.")
def hand_over(
    numbers: Numbers,
    to: Annotated[
        str | None, typer.Option("--to", help="The person who gets them; nobody, when it is left out.")
    ] = None,
    waits_for: Annotated[
        str | None,
        typer.Option(
            "--waits-for", help="Whom or what they wait for, as text; '' for nothing. Unchanged when left out."
        ),
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Hand issues to a person, or to nobody so that somebody else can take them."""
    order = {"to": to} | ({} if waits_for is None else {"waits_for": waits_for})
    _decide(api(url, token), numbers, {"hand_over": order}, as_json)


@app.command("take-back", short_help="Take back what you decided last.")
def take_back(
    decision: Annotated[
        int | None, typer.Argument(help="The decision's number; your latest one, when it is left out.", min=1)
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Undo a decision. Issues that somebody has changed since are left as they are."""
    answer = api(url, token).post(f"/api/decisions/{decision or 'latest'}/undo", {})
    if as_json:
        print_json(answer)
        return
    show.say(f"Taken back: {safe(answer['said'])}.")
    _left(answer)


def _decide(asked: Api, numbers: list[int], order: dict[str, Any], as_json: bool) -> None:
    """Decide about some issues; show the result for each, and how to undo it."""
    unique = list(dict.fromkeys(numbers))
    answer = asked.post("/api/decisions", {"issues": [{"number": number} for number in unique]} | order)
    if not answer["done"] and len(answer["left"]) == 1:
        (left,) = answer["left"]
        raise (NotFound if left["slug"] == "not-found" else Refused)(left["why"])
    if as_json:
        print_json(answer)
    else:
        for number in answer["done"]:
            _show(asked.get(f"/api/issues/{number}"))
        _left(answer)
        if answer["decision"] is not None:
            show.say(f"Take it back: obitus take-back {answer['decision']}", show.QUIET)
    if not answer["done"]:
        raise typer.Exit(5 if all(one["slug"] == "not-found" for one in answer["left"]) else 6)


def _show(issue: dict[str, Any]) -> None:
    last = safe(issue["history"][-1]["reason"]) if issue["history"] else ""
    line = Text(f"Issue {issue['number']}: ").append_text(show.state_text(issue["state"], issue["settled_in"]))
    about = [f"with {issue['holder'] or 'nobody'}", f"{issue['priority']['level']} priority"]
    if issue["waits_for"]:
        about.append(f"waits for {issue['waits_for']}")
    show.console.print(line.append(safe(f", {', '.join(about)}. ")).append(last))


def _left(answer: dict[str, Any]) -> None:
    if answer["left"]:
        show.say(
            f"{count_of(len(answer['left']), 'issue')} left {'as it is' if len(answer['left']) == 1 else 'as they are'}:"
        )
    for issue in answer["left"]:
        show.say(f"  {issue['number']}: {safe(issue['why'])}")
