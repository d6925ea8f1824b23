"""``obitus calls``: who calls whom, and what entry points spend their time with."""

from __future__ import annotations

from typing import Any, Final

from rich.text import Text

from obitus.cli.api import api
from obitus.cli.commands import App, Environment, Json, Release, Token, Url, Window, app, check_window, print_json
from obitus.cli.safe import safe
from obitus.cli.show import FAILED, QUIET, console, heading, ms_text, plain_table, say

KINDS: Final = {"http": "host", "database": "database", "queue": "queue", "app": "app, by trace"}
MOST_POINTS: Final = 12


@app.command(short_help="Show who calls whom.")
def calls(
    window: Window = "24h",
    app_name: App = None,
    environment: Environment = None,
    release: Release = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show who calls whom: apps, hosts, databases and queues; how often that fails, and what entry points spend their time with."""
    check_window(window)
    query = {"window": window, "app": app_name, "environment": environment, "release": release}
    answer = api(url, token).get("/api/calls", query)
    print_json(answer) if as_json else _show(answer)


def _show(answer: dict[str, Any]) -> None:
    if not answer["lines"]:
        say("No calls are known in this window. Look further back with --window 14d.")
        return
    say(
        f"From the steps of {answer['whole']:,} runs that were sent whole, of {answer['runs']:,}: each represents those with the same outcome.",
        QUIET,
    )
    table = plain_table("calls", "failed", "share", "half <", "95% <", "who calls whom", left=("who calls whom",))
    for line in answer["lines"]:
        whom = Text(f"{safe(line['app'])} → {'others' if line['target'] == '…' else safe(line['target'])}")
        answers = f", {safe(line['to_app'])}" if line["to_app"] and line["kind"] != "app" else ""
        table.add_row(
            f"{line['calls']:,}",
            Text(f"{line['failed']:,}", style=FAILED if line["failed"] else ""),
            f"{line['failed'] / line['calls']:.1%}" if line["calls"] else "–",
            ms_text(line["median_below_ms"]),
            ms_text(line["p95_below_ms"]),
            whom.append(f"  {KINDS[line['kind']]}{answers}", style=QUIET),
        )
    console.print(table)
    if answer["lines_in_all"] > len(answer["lines"]):
        say(f"{answer['lines_in_all'] - len(answer['lines']):,} more with fewer calls: narrow with --app.", QUIET)
    if answer["points"]:
        heading("Where entry points spend their time")
        for point in answer["points"][:MOST_POINTS]:
            shares = [
                f"{spent['share']:.0%} {safe(spent['target'])}"
                for spent in point["spent_with"]
                if spent["share"] >= 0.005
            ]
            row = Text(f"{point['mean_ms']:>9,.0f} ms  ", style="bold").append(
                f"{safe(point['app'])}  {safe(point['entry_point'])}", style=""
            )
            console.print(row.append(f"  {', '.join(shares) or 'itself'}", style=QUIET))
    say("The runs behind a line: obitus runs 'app=APP calls~TARGET' --window …", QUIET)
