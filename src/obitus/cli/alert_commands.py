"""``obitus alerts``: firings, rules and their previews, rules from a file, and silences."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, Window, app, check_window, print_json, time_of
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.core.clock import span_ms
from obitus.core.wording import count_of, minute_of

alerts = typer.Typer(help="Alerts that fired, alert rules, and silences.", no_args_is_help=True, rich_markup_mode=None)
app.add_typer(alerts, name="alerts", short_help="What fired; rules, previews, silences.")
When = Annotated[str, typer.Argument(metavar="WHEN", help="What to wait for: 'new issue where app=sailings'.")]
RuleName = Annotated[str, typer.Argument(metavar="NAME", help="The rule's name.")]
Number = Annotated[int, typer.Argument(metavar="NUMBER", min=1, help="The firing's number.")]
To = Annotated[list[str] | None, typer.Option("--to", help="A channel that is notified. Repeatable.")]
Priority = Annotated[str, typer.Option("--priority", help="high, middle or low. High priority ignores quiet hours.")]
AnHour = Annotated[int, typer.Option("--at-most", min=1, help="Most messages an hour; further ones are sent as one.")]
EscalateTo = Annotated[
    list[str] | None, typer.Option("--escalate-to", help="A channel that is notified when nobody accepts in time.")
]
EscalateAfter = Annotated[str | None, typer.Option("--escalate-after", help="After how long: 15m.")]
Rule = Annotated[str | None, typer.Option("--rule", help="Only this rule.")]


@alerts.command("list")
def list_alerts(
    window: Window = "24h",
    rule: Rule = None,
    issue: Annotated[int | None, typer.Option("--issue", min=1, help="Only those of this issue.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List what fired, the latest first, and how it was delivered."""
    check_window(window)
    answer = api(url, token).get("/api/alerts", {"window": window, "rule": rule, "issue": issue})
    if as_json:
        print_json(answer)
        return
    for firing in answer["firings"]:
        _firing_line(firing)
    if not answer["firings"]:
        show.say(f"Nothing fired in {window}. See what rules would do: obitus alerts try 'new issue'")
    elif answer["open"]:
        show.say(
            f"{count_of(answer['open'], 'alert')} still firing. One of them whole: obitus alerts show NUMBER",
            show.QUIET,
        )


@alerts.command("show")
def show_alert(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show one firing: why, what led to it, who was notified, and how that went."""
    alert = api(url, token).get(f"/api/alerts/{number}")
    if as_json:
        print_json(alert)
        return
    _firing_line(alert)
    rows = [
        ("why", alert["reason"]),
        ("rule", f"{alert['rule']}: {alert['when']}"),
        ("known", minute_of(alert["noted"])),
        ("worst", alert["worst"] if alert["worst"] != alert["value"] else ""),
        ("held back", alert["held_back"]),
        ("accepted", f"{alert['accepted_by']}, {minute_of(alert['accepted'] or '')}" if alert["accepted"] else ""),
        ("escalates", "" if alert["accepted"] or alert["escalated"] else minute_of(alert["escalates"] or "")),
        ("escalated", minute_of(alert["escalated"] or "")),
        ("records", alert["records"]),
    ]
    for label, value in rows:
        if value:
            show.say(f"  {label:10} {safe(value)}")
    if any(alert["over_time"]):
        show.say(f"  {'before':10} {show.sparkline(alert['over_time'], 40)}")
    for message in alert["messages"]:
        show.say(f"  {safe(message['channel']):10} {message['kind']}: {safe(message['said'])}")
    if not alert["is_over"] and not alert["accepted"]:
        show.say(f"Take care of it: obitus alerts accept {number}", show.QUIET)


@alerts.command("accept")
def accept(number: Number, url: Url = None, token: Token = None) -> None:
    """Take care of a firing: nobody else is notified."""
    answer = api(url, token).post(f"/api/alerts/{number}/accept", {})
    show.say(
        "Accepted: nobody else is notified."
        if answer["first"]
        else f"{safe(answer['accepted_by'])} has accepted it already."
    )


@alerts.command("rules")
def rules(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the rules, what they wait for, whom they notify, and how often they fired."""
    answer = api(url, token).get("/api/alert-rules")
    if as_json:
        print_json(answer)
        return
    for rule in answer["rules"]:
        line = Text(safe(rule["name"]), style="bold").append(f"  {safe(rule['when'])}")
        show.console.print(line)
        notified = ", ".join(rule["to"]) or "nobody"
        escalates = (
            f", after {rule['escalate_after_minutes']} min {', '.join(rule['escalate_to'])}"
            if rule["escalate_to"]
            else ""
        )
        source = f"; from {rule['source']}" if rule["source"] else ""
        show.say(
            f"    notifies {safe(notified)}{safe(escalates)}; {rule['priority']}; looked at {rule['looked_at']}; "
            f"fired {count_of(rule['fired'], 'time')} in 14 days{safe(source)}",
            show.QUIET,
        )
        if rule["trouble"]:
            show.say(f"    {safe(rule['trouble'])}", show.FAILED)
    if not answer["rules"]:
        show.say(
            "No alert rule yet. See what one would have done: obitus alerts try 'new issue where environment=production'"
        )


@alerts.command("try")
def try_rule(when: When, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show what a rule would have done in the last 14 days, and what it costs; nothing is kept."""
    answer = api(url, token).post("/api/alert-rules/preview", {"when": when})
    if as_json:
        print_json(answer)
        return
    show.say(f"{safe(answer['said'])}.")
    show.console.print(Text(safe(answer["summary"]), style="bold"))
    for firing in answer["firings"][:15]:
        until = f" to {minute_of(firing['over'])[11:]}" if firing["over"] and firing["over"] != firing["begun"] else ""
        show.say(f"  {minute_of(firing['begun'])}{until}  {safe(firing['about'])}  {safe(firing['reason'])}")
    if answer["in_all"] > 15:
        show.say(f"  and {answer['in_all'] - 15} more", show.QUIET)
    if answer["remark"]:
        show.say(safe(answer["remark"]), show.QUIET)
    if answer["now"]:
        show.say(f"Now: {safe(answer['now'])}", show.QUIET)
    show.say(f"Looked at {answer['looked_at']}; a look takes {answer['cost_ms']:.2g} ms.", show.QUIET)
    show.say(f"Use it: obitus alerts add NAME {_quoted(when)} --to CHANNEL", show.QUIET)


@alerts.command("add")
def add(
    name: RuleName,
    when: When,
    to: To = None,
    priority: Priority = "middle",
    at_most: AnHour = 12,
    escalate_to: EscalateTo = None,
    escalate_after: EscalateAfter = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Use a rule from now on."""
    after = None if escalate_after is None else _minutes(escalate_after, "--escalate-after")
    order = {
        "name": name, "when": when, "to": to or [], "priority": priority, "at_most_an_hour": at_most, "escalate_to": escalate_to or [],
        "escalate_after_minutes": after,
    }  # fmt: skip
    _used(api(url, token).post("/api/alert-rules", order), as_json)


@alerts.command("change")
def change(
    name: RuleName,
    when: Annotated[str | None, typer.Option("--when", help="What to wait for from now on.")] = None,
    to: To = None,
    priority: Annotated[str | None, typer.Option("--priority", help="high, middle or low.")] = None,
    at_most: Annotated[int | None, typer.Option("--at-most", min=1, help="Most messages an hour.")] = None,
    escalate_to: EscalateTo = None,
    escalate_after: EscalateAfter = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Change a rule; options that are left out stay as they are."""
    service = api(url, token)
    before = next((one for one in service.get("/api/alert-rules")["rules"] if one["name"] == name), None)
    if before is None:
        raise UsageTrouble(f"there is no rule {name!r}. See all: obitus alerts rules")
    given = {
        "when": when, "to": to, "priority": priority, "at_most_an_hour": at_most, "escalate_to": escalate_to,
        "escalate_after_minutes": None if escalate_after is None else _minutes(escalate_after, "--escalate-after"),
    }  # fmt: skip
    order = {field: before[field] if value is None else value for field, value in given.items()}
    _used(service.put(f"/api/alert-rules/{quote(name, safe='')}", order), as_json)


@alerts.command("end")
def end(name: RuleName, url: Url = None, token: Token = None) -> None:
    """Stop a rule. Its firings stay on record."""
    api(url, token).delete(f"/api/alert-rules/{quote(name, safe='')}")
    show.say(f"The rule {safe(name)} is stopped.")


@alerts.command("apply")
def apply(
    file: Annotated[
        Path, typer.Argument(metavar="FILE", help="A TOML file with [[alert]] tables; - for standard input.")
    ],
    yes: Annotated[bool, typer.Option("--yes", help="Do it; without it, only the plan is shown.")] = False,
    end_others: Annotated[bool, typer.Option("--end-others", help="End the rules that are not in the file.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Use the rules of a file. The changes are shown first; rules that are not in the file are left alone."""
    order = {"text": _read(file), "source": file.name, "end_others": end_others, "only_plan": not yes}
    answer = api(url, token).post("/api/alert-rules/apply", order)
    if as_json:
        print_json(answer)
        return
    for step in answer["steps"]:
        style = show.QUIET if step["act"] in ("keep", "leave") else show.FAILED if step["act"] == "end" else ""
        show.console.print(Text(f"{step['act']:7}", style=style).append(f"{safe(step['name'])}: {safe(step['said'])}"))
    if answer["done"]:
        show.say(f"Done: {answer['summary']}.")
    else:
        show.say(f"Plan: {answer['summary']}. Do it: the same command with --yes")


@alerts.command("silences")
def silences(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List active and planned silences."""
    answer = api(url, token).get("/api/silences")
    if as_json:
        print_json(answer)
        return
    for silence in answer["silences"]:
        begins = "" if silence["active"] else f" (from {minute_of(silence['start'])})"
        show.say(f"{silence['number']:>4}  {safe(silence['said'])}{begins}")
    if not answer["silences"]:
        show.say("No silence is active. Add one: obitus alerts silence 2h --app APP --reason 'new pier'")


@alerts.command("silence")
def silence(
    length: Annotated[str, typer.Argument(metavar="LENGTH", help="For how long: 30m, 2h, 1d.")],
    reason: Annotated[str, typer.Option("--reason", help="Why; shown beside the messages that are held back.")],
    rule: Rule = None,
    app_name: Annotated[str | None, typer.Option("--app", help="Only firings of this app.")] = None,
    environment: Annotated[str | None, typer.Option("--environment", help="Only firings of this environment.")] = None,
    issue: Annotated[int | None, typer.Option("--issue", min=1, help="Only this issue.")] = None,
    start: Annotated[
        str | None, typer.Option("--from", help="Begin at this time, for maintenance: 2026-11-26T22:00.")
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Let rules send nothing for a time. Firings are still recorded; the silence ends by itself."""
    order = {
        "reason": reason, "minutes": _minutes(length, "LENGTH"), "rule": rule, "app": app_name, "environment": environment,
        "issue": issue, "start": time_of(start),
    }  # fmt: skip
    answer = api(url, token).post("/api/silences", order)
    print_json(answer) if as_json else show.say(f"Silence {answer['number']}: {safe(answer['said'])}")


@alerts.command("end-silence")
def end_silence(
    number: Annotated[int, typer.Argument(metavar="NUMBER", min=1, help="The silence's number.")],
    url: Url = None,
    token: Token = None,
) -> None:
    """End a silence before its time."""
    api(url, token).delete(f"/api/silences/{number}")
    show.say(f"Silence {number} has ended.")


def _minutes(text: str, where: str) -> int:
    ms = span_ms(text)
    if ms is None:
        raise UsageTrouble(f"{where}: {text!r} is no span of time. Say 30m, 2h or 1d.")
    return ms // 60_000


def _used(answer: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print_json(answer)
        return
    show.say(
        f"The rule {safe(answer['name'])} is active: {safe(answer['said'])}. It notifies {safe(', '.join(answer['to']) or 'nobody')}."
    )
    if answer["trouble"]:
        show.say(safe(answer["trouble"]), show.FAILED)


def _firing_line(firing: dict[str, Any]) -> None:
    ended = "over" if firing["over"] else "happened"
    mark = "accepted" if firing["accepted"] else ended if firing["is_over"] else "FIRES"
    style = show.FAILED if mark == "FIRES" else show.QUIET
    over = f" to {minute_of(firing['over'])[11:]}" if firing["over"] else ""
    delivered = sum(message["delivered"] is not None for message in firing["messages"])
    sent = firing["held_back"] or (
        f"{delivered} of {count_of(len(firing['messages']), 'message')} delivered"
        if firing["messages"]
        else "nobody is notified"
    )
    line = (
        Text(f"{firing['number']:>5}  ")
        .append(f"{mark:8}  ", style=style)
        .append(f"{minute_of(firing['begun'])}{over}  ")
    )
    value = f"  {safe(firing['value'])}" if firing["value"] else ""
    line.append(safe(firing["title"]), style="bold").append(f"{value}  {safe(firing['rule'])}").append(
        f"  {safe(sent)}", style=show.QUIET
    )
    show.console.print(line)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


def _read(file: Path) -> str:
    try:
        return sys.stdin.read() if str(file) == "-" else file.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise UsageTrouble(f"{file} cannot be read: {getattr(error, 'strerror', None) or error}.") from error
