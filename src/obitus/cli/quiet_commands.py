"""``obitus quiet``, ``person``: for trouble without an exception: more refusals and warnings than usual, and what
happened to one person."""

from __future__ import annotations

from typing import Annotated, Any, Final

import typer
from rich.text import Text

from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, print_json, time_of
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.show import FAILED, QUIET, console, heading, inset, length_of, say
from obitus.core.wording import count_of, minute_of

WORDS: Final = {"refused": "▽ refused", "warning": "! warns", "silent": "◌ did not run"}
MARKS: Final = {"ok": "✓", "refused": "▽", "failed": "✕", "warned": "!"}


@app.command(short_help="Show what went wrong with no exception.")
def quiet(
    make_issue: Annotated[
        int | None, typer.Option("--make-issue", metavar="N", help="Make an issue of the one with this number.", min=1)
    ] = None,
    leave: Annotated[
        int | None, typer.Option("--leave", metavar="N", help="Mark this one as nothing to act on.", min=1)
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show entry points that refuse more than usual, warnings that are new or more than usual, and jobs that did not run.

    An issue made of one collects its past and future records: it is counted and regresses like any other.
    """
    if make_issue is not None and leave is not None:
        raise UsageTrouble("Say one of --make-issue and --leave.")
    service = api(url, token)
    if make_issue is not None:
        issue = service.post(f"/api/quiet/{make_issue}/issue", {})
        print_json(issue) if as_json else say(f"It is issue {issue['issue']}: obitus issue {issue['issue']}")
        return
    if leave is not None:
        done = service.post(f"/api/quiet/{leave}/leave", {})
        print_json(done) if as_json else say("It is dismissed until it ends and happens again.")
        return
    answer = service.get("/api/quiet")
    print_json(answer) if as_json else _show_quiet(answer["quiet"])


def _show_quiet(quiet: list[dict[str, Any]]) -> None:
    if not quiet:
        say("Nothing is refused or warned of more than usual, and no job is overdue.")
        return
    for quiet_failure in quiet:
        head = Text(f"{quiet_failure['id']:>4}  ", style=QUIET).append(
            f"{WORDS[quiet_failure['kind']]:<13} ", style=FAILED
        )
        console.print(
            head.append(f"{safe(quiet_failure['app'])}: ").append(safe(quiet_failure["subject"]), style="bold"),
            soft_wrap=True,
        )
        inset(Text(safe(quiet_failure["reason"])), 6)
        if quiet_failure["issue"]:
            inset(Text(f"issue {quiet_failure['issue']} collects it", style=QUIET), 6)
        elif quiet_failure["left_by"]:
            inset(Text(f"left by {safe(quiet_failure['left_by'])}", style=QUIET), 6)
        else:
            verb = "logs" if quiet_failure["records"] == "log" else "runs"
            inset(Text(f"obitus {verb} '{safe(quiet_failure['question'])}'", style=QUIET), 6)
    say()
    say("Make an issue of it: obitus quiet --make-issue N. Nothing to act on: obitus quiet --leave N.", QUIET)


@app.command(short_help="Show what happened to one person, in all apps.")
def person(
    who: Annotated[
        str, typer.Argument(metavar="WHO", help="A user id, a session, a name, an e-mail address, or its hash.")
    ],
    at: Annotated[
        str | None, typer.Option("--at", help="About when: 2026-11-26T10:00, or 10:00 of today; UTC. Now if left out.")
    ] = None,
    around: Annotated[str, typer.Option("--around", help="How long before and after: 30m, 6h.")] = "30m",
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show what happened to one person around a time, in order: runs, refusals, failures, warnings. For “it did not work”, when nothing was raised."""
    asked = api(url, token)
    answer = asked.get("/api/person", {"who": who, "at": time_of(at), "around": around})
    print_json(answer) if as_json else _show_person(answer)


def _show_person(answer: dict[str, Any]) -> None:
    span = answer["span"]
    by = f" ({', '.join(answer['found_by'])})" if answer["found_by"] else ""
    say(f"{safe(answer['who'])}{by}, {minute_of(span['start'])} to {span['end'][11:16]} UTC", "bold")
    if answer["met"]:
        say(
            f"{count_of(len(answer['met']), 'record')} of {count_of(len(answer['apps']), 'app')}; {answer['refused']:,} refused, {answer['failed']:,} failed.",
            QUIET,
        )
        heading("What happened to them")
    for record in answer["met"]:
        bad = record["outcome"] in ("failed", "refused")
        line = Text(f"  {record['time'][11:23]}  ", style=QUIET).append(
            f"{MARKS[record['outcome']]} {record['outcome']:<8} ", style=FAILED if bad else QUIET
        )
        line.append(f"{safe(record['app'])}  ", style=QUIET).append(safe(record["said"]), style="bold" if bad else "")
        if record["status"]:
            line.append(f"  {record['status']}")
        if record["duration_ms"] is not None:
            line.append(f"  {length_of(record['duration_ms'])}", style=QUIET)
        if record["counted"]:
            line.append(f"  {record['counted']:,} like it, only counted", style=QUIET)
        if record["issue"]:
            line.append(f"  issue {record['issue']}", style=QUIET)
        console.print(line, soft_wrap=True)
    for note in answer["notes"]:
        say(safe(note), QUIET)
    worst = next((record for record in answer["met"] if record["outcome"] in ("failed", "refused")), None)
    if worst is not None and (worst["trace"] or worst["failure"] or worst["run"]):
        say()
        say(f"Its timeline: obitus timeline {worst['failure'] or worst['trace'] or worst['run']}", QUIET)
