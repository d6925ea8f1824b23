"""``obitus timeline``, ``turning``, ``common``: the timeline, where it differs from healthy runs, and what failing
runs have in common."""

from __future__ import annotations

import re
from typing import Annotated, Any, Final

import typer
from rich.text import Text

from obitus.cli.api import Api, api
from obitus.cli.commands import App, Json, Token, Url, Window, app, print_json, time_of
from obitus.cli.errors import NotFound, UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.show import FAILED, QUIET, console, length_of, plain_table, say

SHAPES: Final = {
    "run": "▷", "failure": "✕", "log": "≡", "http": "↗", "statement": "▤", "process": "⚙", "input": "⌨", "page": "▭", "mark": "·", "deploy": "◆", "decision": "✎", "note": "¶", "issue": "✳",
}  # fmt: skip
_LOUD: Final = ("ERROR", "FATAL")
_TRACE = re.compile("[0-9a-f]{32}")


@app.command(short_help="Show what led up to a failure, in all apps.")
def timeline(
    what: Annotated[
        str | None,
        typer.Argument(metavar="[ID]", help="A failure's or a run's id, a trace id, or the number of an issue."),
    ] = None,
    user: Annotated[
        str | None, typer.Option("--user", help="A user.id: everything that happened to that user around a time.")
    ] = None,
    host: Annotated[str | None, typer.Option("--host", help="The same for a host.")] = None,
    at: Annotated[
        str | None, typer.Option("--at", help="About when: 2026-11-26T10:00, or 10:00 of today; UTC.")
    ] = None,
    around: Annotated[
        str | None, typer.Option("--around", help="Add other events from this long before and after: 5m.")
    ] = None,
    unfold: Annotated[bool, typer.Option("--unfold", help="Show folded steps too.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show everything that led up to a failure, from all apps that took part, in order, and the last step that worked."""
    if sum(one is not None for one in (what, user, host)) != 1:
        raise UsageTrouble("Say one: a failure, run, trace or issue, or --user, or --host.")
    service = api(url, token)
    more = {"at": time_of(at), "around": around}
    if user is not None or host is not None:
        answer = service.get("/api/timeline", {"user": user, "host": host} | more)
    else:
        answer = _of(service, str(what).lower(), more)
    print_json(answer) if as_json else _show(answer, unfold=unfold)


def _of(service: Api, subject: str, more: dict[str, Any]) -> Any:
    """Return the timeline of an id."""
    if subject.isdigit():
        latest = service.get(f"/api/issues/{subject}")["latest"]
        return service.get("/api/timeline", {"failure": latest["id"]} | more)
    if _TRACE.fullmatch(subject):
        return service.get("/api/timeline", {"trace": subject} | more)
    try:
        return service.get("/api/timeline", {"failure": subject} | more)
    except NotFound:
        return service.get("/api/timeline", {"run": subject} | more)


def _show(answer: dict[str, Any], *, unfold: bool) -> None:
    say(f"{safe(answer['title'])}, {answer['start'][:19].replace('T', ' ')} UTC", "bold")
    for correction in answer["corrections"]:
        say(safe(correction["reason"]), QUIET if correction["certain"] else FAILED)
    for note in answer["notes"]:
        say(safe(note), QUIET)
    apps = answer["apps"]
    say("  ".join(f"{place + 1} {safe(name)}" for place, name in enumerate(apps)), QUIET)
    folds = {} if unfold else {fold["first"]: fold for fold in answer["folds"]}
    skipped = 0
    for entry in answer["entries"]:
        if skipped:
            skipped -= 1
            continue
        fold = folds.get(entry["key"])
        if fold:
            say(f"{'':>10}  {'':{2 * len(apps)}}▸ {fold['reason']}: {safe(entry['said'])[:60]}", QUIET)
            skipped = fold["entries"] - 1
            continue
        _line(entry, apps, answer)
    if answer["worked"]:
        say(f"◂ {answer['worked']['reason']}", QUIET)
    if answer["well_before"]:
        well = answer["well_before"]
        status = f" with {well['status']}" if well["status"] else ""
        say(
            f"Answered well{status} before, at {well['time'][:19].replace('T', ' ')}: obitus timeline {well['run']}",
            QUIET,
        )
    if answer["folds"] and not unfold:
        say("Uninteresting steps are folded; --unfold shows them.", QUIET)


def _line(entry: dict[str, Any], apps: list[str], answer: dict[str, Any]) -> None:
    lanes = "".join(f"{place + 1} " if name == entry["app"] else "│ " for place, name in enumerate(apps))
    loud = entry["severity"] in _LOUD
    line = Text(f"{length_of(entry['since_ms']):>10}  ", style=QUIET).append(lanes, style=QUIET)
    line.append("  " * min(entry["depth"], 8)).append(f"{SHAPES[entry['kind']]} ", style=FAILED if loud else QUIET)
    style = FAILED if loud else "bold" if entry["kind"] == "run" else ""
    line.append(safe(entry["said"]) or f"({entry['kind']})", style=style)
    if entry["kind"] == "run" and (entry["data"].get("status") or 0) >= 400:
        line.append(f" → {entry['data']['status']}", style=style)
    if entry["severity"] == "WARN":
        line.append("  ! WARN")
    if entry["duration_ms"] is not None:
        line.append(f"  {length_of(entry['duration_ms'])}", style=QUIET)
    if answer["worked"] and entry["key"] == answer["worked"]["key"]:
        line.append("  ◂ last that worked", style="bold")
    if entry["issue"]:
        line.append(f"  issue {entry['issue']}", style=QUIET)
    console.print(line, soft_wrap=True)


@app.command(short_help="Show where a run differs from good ones.")
def turning(
    what: Annotated[str, typer.Argument(metavar="ID", help="A failure's id, or the number of an issue.")],
    whole: Annotated[bool, typer.Option("--whole", help="Show both runs side by side, equal steps too.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show the first step of a failing run that healthy runs do not have, do differently, or finish far sooner."""
    service = api(url, token)
    id = service.get(f"/api/issues/{what}")["latest"]["id"] if what.isdigit() else what
    answer = service.get(f"/api/failures/{id}/turning")
    if as_json:
        print_json(answer)
        return
    say(f"{'Turning point: ' if answer['found'] else ''}{safe(answer['said'])}", FAILED if answer["found"] else "")
    for difference in answer["differences"][1:5]:
        say(f"  then: {safe(difference['said'])}", QUIET)
    if not answer["side_by_side"]:
        return
    say(f"This run beside the nearest of {answer['healthy']} healthy ones; ≠ where they differ:", QUIET)
    for line in answer["side_by_side"]:
        if line["differs"] or whole:
            here, there = (_side(line[name]) for name in ("here", "healthy"))
            text = Text("≠ " if line["differs"] else "  ", style=FAILED).append(here.ljust(38)[:38]).append("  ")
            console.print(text.append(there, style=QUIET), overflow="ellipsis", no_wrap=True)


def _side(step: dict[str, Any] | None) -> str:
    if step is None:
        return "–"
    took = f" {length_of(step['ms'])}" if step["ms"] is not None else ""
    return f"{safe(step['said'])[:30]}{took}"


@app.command(short_help="Show what failing runs have in common.")
def common(
    subject: Annotated[
        str | None, typer.Argument(metavar="[ISSUE|QUESTION]", help="The number of an issue, or a question for runs.")
    ] = None,
    window: Window = "14d",
    app_name: App = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show which values, steps and outcomes failing runs have more often than healthy runs of the same entry points."""
    query: dict[str, Any] = {"window": window, "app": app_name}
    query |= {"issue": subject} if subject is not None and subject.isdigit() else {"question": subject}
    answer = api(url, token).get("/api/in-common", query)
    if as_json:
        print_json(answer)
        return
    say(safe(answer["said"]), FAILED if answer["found"] else "")
    if answer["found"]:
        table = plain_table("failing", "healthy", "what", left=("what",))
        for feature in answer["found"]:
            with_it = f"  and {safe('; '.join(feature['with_it'][:3]))}" if feature["with_it"] else ""
            line = Text(f"{safe(feature['name'])} {safe(feature['value'])}").append(with_it, style=QUIET)
            table.add_row(f"{feature['failing_share']:.0%}", f"{feature['healthy_share']:.1%}", line)
        console.print(table)
        say(
            f"{answer['failing']:,} failing runs against {answer['healthy']:,} healthy ones, each weighted for the ones that were not sent.",
            QUIET,
        )
