"""``obitus now``: what is happening, beside the time before."""

from __future__ import annotations

from typing import Any, Final

from rich.text import Text

from obitus.cli.api import api
from obitus.cli.commands import App, Environment, Json, Release, Token, Url, Window, app, check_window, print_json
from obitus.cli.safe import safe
from obitus.cli.show import FAILED, QUIET, console, heading, ms_of, ms_text, plain_table, say, sparkline
from obitus.core.wording import minute_of, span

MOST_CALLED: Final = 6


@app.command(short_help="Show what is happening now.")
def now(
    window: Window = "30m",
    app_name: App = None,
    environment: Environment = None,
    release: Release = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show what is happening: failures and runs, entry points, types, answer codes, what is new; compared with the period before."""
    check_window(window)
    query = {"window": window, "app": app_name, "environment": environment, "release": release}
    answer = api(url, token).get("/api/now", query)
    print_json(answer) if as_json else _show(answer)


def _show(answer: dict[str, Any]) -> None:
    length = span(ms_of(answer["window"]["end"]) - ms_of(answer["window"]["start"]))
    start, end = (minute_of(answer["window"][name]) for name in ("start", "end"))
    say(f"{start} to {end[11:] if start[:10] == end[:10] else end}, UTC: {length}, beside the {length} before", QUIET)
    for name, title in (("failures", "failures"), ("failed", "runs that failed"), ("runs", "runs")):
        section = answer[name]
        style = FAILED if name != "runs" else ""
        line = (
            Text(f"{section['now']:>9,}  ", style="bold")
            .append(f"{title:<18}")
            .append(f"{sparkline(section['over_time'], 30):<32}", style=style)
        )
        console.print(line.append(f"before: {section['before']:,}", style=QUIET))
    if not answer["runs"]["now"] and not answer["failures"]["now"]:
        say("Nothing was reported in this window. Look further back with --window 24h.")
        return
    _issues("New", answer["new"])
    _issues("Regressed", answer["regressed"])
    if answer["points"]:
        heading("Entry points, by failed runs")
        table = plain_table(
            "failed", "runs", "per 1,000", "before", "half <", "95% <", "entry point", left=("entry point",)
        )
        for point in answer["points"][:12]:
            table.add_row(
                f"{point['failed']:,}",
                f"{point['runs']:,}",
                _rate(point["failed"], point["runs"]),
                _rate(point["failed_before"], point["runs_before"]),
                ms_text(point["median_below_ms"]),
                ms_text(point["p95_below_ms"]),
                Text(f"{safe(point['app'])}  {safe(point['entry_point'])}"),
            )
        console.print(table)
    if answer["called"]:
        heading("What is called")
        table = plain_table("failed", "calls", "share", "before", "95% <", "before", "called", left=("called",))
        for row in answer["called"][:MOST_CALLED]:
            table.add_row(
                f"{row['failed']:,}",
                f"{row['calls']:,}",
                _share(row["failed"], row["calls"]),
                _share(row["failed_before"], row["calls_before"]),
                ms_text(row["p95_below_ms"]),
                ms_text(row["p95_below_ms_before"]),
                Text(safe(row["target"])).append(f"  by {safe(row['app'])}", style=QUIET),
            )
        console.print(table)
    if answer["types"]:
        heading("Types of exceptions")
        for row in answer["types"]:
            issues = ", ".join(str(number) for number in row["issues"])
            line = Text(f"{row['failures']:>9,}  ", style="bold").append(safe(row["type"]))
            console.print(line.append(f"  before: {row['before']:,}; issue {issues}", style=QUIET))
    if answer["statuses"]:
        heading("Answer codes")
        line = Text("  ")
        for row in answer["statuses"]:
            line.append(f"  {row['status']} ", style=FAILED if row["status"] >= 500 else "bold").append(
                f"{row['runs']:,}"
            )
            line.append(f" ({row['before']:,})", style=QUIET)
        console.print(line)
    if answer["loggers"]:
        heading("Loggers that warn")
        for row in answer["loggers"][:6]:
            console.print(
                Text(f"{row['records']:>9,}  ", style="bold").append(safe(row["logger"]) or "(without a name)")
            )
    for deploy in answer["deploys"][:6]:
        say(
            f"deploy  {minute_of(deploy['time'])}  {safe(deploy['app'])} {safe(deploy['release'])} in {safe(deploy['environment'])}",
            QUIET,
        )
    say("Read an issue: obitus issue NUMBER. The records: obitus failures, obitus runs, obitus logs --window …", QUIET)


def _issues(title: str, issues: list[dict[str, Any]]) -> None:
    if issues:
        heading(title)
        for issue in issues:
            line = Text(f"{issue['failures']:>9,}  ", style="bold").append(safe(issue["title"]))
            console.print(line.append(f"  {safe(issue['app'])} · issue {issue['issue']}", style=QUIET))


def _rate(failed: int, runs: int) -> str:
    return f"{1000 * failed / runs:,.0f}" if runs else "–"


def _share(failed: int, calls: int) -> str:
    return f"{failed / calls:.1%}" if calls else "–"
