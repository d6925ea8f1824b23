"""``obitus shift``, ``lists``: what one shift hands on to the next, and the team's saved lists of issues."""

from __future__ import annotations

from typing import Annotated, Any

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import api
from obitus.cli.commands import App, Environment, Json, Token, Url, Window, app, check_window, print_json
from obitus.cli.safe import safe
from obitus.cli.writing import print_whole
from obitus.core.wording import count_of


@app.command(short_help="Show what a shift hands on.")
def shift(
    window: Window = "8h",
    app_name: App = None,
    environment: Environment = None,
    markdown: Annotated[bool, typer.Option("--markdown", help="Print it as Markdown, to paste.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show new issues, decisions and who made them, and what is waiting."""
    check_window(window)
    service, query = api(url, token), {"window": window, "app": app_name, "environment": environment}
    if markdown:
        print_whole(service.stream("/api/shift/document", query))
        return
    answer = service.get("/api/shift", query)
    if as_json:
        print_json(answer)
        return
    show.say(safe(answer["sentence"]))
    show.heading("Unassigned")
    _rows(answer["unassigned"], "everything that came in is assigned")
    show.heading("What waits")
    _rows(answer["waits"], "nothing")
    if answer["quiet"]:
        show.heading("Quiet failures")
        for quiet_failure in answer["quiet"]:
            show.say(
                safe(
                    f"  {quiet_failure['app']}, {quiet_failure['environment']}: {quiet_failure['subject']}. {quiet_failure['reason']}"
                )
            )
    show.heading("What came in")
    _happened(answer["came_in"])
    show.heading("What was decided, and by whom")
    _happened(answer["decided"])
    if answer["unassigned"]:
        numbers = " ".join(str(row["number"]) for row in answer["unassigned"][:3])
        show.say(f"Take them: obitus take {numbers}. As Markdown: obitus shift --markdown", show.QUIET)


@app.command(short_help="List the saved lists of issues, with counts.")
def lists(
    window: Window = "24h",
    app_name: App = None,
    environment: Environment = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List the saved lists of issues that you see, with how many each has now."""
    check_window(window)
    query = {"window": window, "app": app_name, "environment": environment}
    answer = api(url, token).get("/api/lists", query)
    if as_json:
        print_json(answer)
        return
    if not answer["lists"]:
        show.say("No list is saved yet. Search on the page Issues, and save the result as a list.")
        return
    for list_row in answer["lists"]:
        asked = list_row["view"].get("question") or "all"
        state = f" {list_row['view']['state']}" if list_row["view"].get("state") else ""
        count = "?" if list_row["issues"] is None else f"{list_row['issues']:,}"
        show.console.print(
            Text(f"{count:>6}  ", style="bold")
            .append(safe(list_row["name"]))
            .append(safe(f"  {asked}{state}"), style=show.QUIET)
        )
    show.say("One of them: obitus issues --list NAME", show.QUIET)


def _rows(rows: list[dict[str, Any]], none: str) -> None:
    if not rows:
        show.say(f"  {none}", show.QUIET)
    for row in rows:
        line = Text(f"{row['number']:>6}  ", style="bold").append_text(show.state_text(row["state"], row["settled_in"]))
        line.append(safe(f"  {row['priority']['level']}  {row['title']}"))
        about = [row["app"], f"with {row['holder']}" if row["holder"] else "unassigned"]
        about += [f"waits for {row['waits_for']}"] if row["waits_for"] else []
        if row["parked"] and row["parked"]["said"]:
            about.append(row["parked"]["said"])
        if row["reopened"]:
            about.append(row["reopened"])
        show.console.print(line)
        show.inset(Text(safe(" · ".join(about)), style=show.QUIET), 8)


def _happened(entries: list[dict[str, Any]]) -> None:
    if not entries:
        show.say("  nothing", show.QUIET)
    for entry in entries[-40:]:
        who = f"{entry['person']}: " if entry["what"] == "noted" else ""
        time = entry["time"][5:16].replace("T", " ")
        line = Text(f"  {time}  ", style=show.QUIET).append(
            f"{entry['what']:<10}", style=show.FAILED if entry["what"] == "regressed" else ""
        )
        show.console.print(line.append(safe(f"{entry['issue']} {entry['title']}. {who}{entry['said']}")))
    if len(entries) > 40:
        show.say(f"  and {count_of(len(entries) - 40, 'more before', 'more before')} them", show.QUIET)
