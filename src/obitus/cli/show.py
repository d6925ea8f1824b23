"""How answers look in a terminal of 80 columns. Text from reports is never read as markup or control codes."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, Final

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from obitus.cli.safe import safe
from obitus.core.clock import to_ms
from obitus.core.wording import ago, count_of, minute_of

if TYPE_CHECKING:
    from obitus.client.check import Finding

SHAPES: Final = {"untriaged": "○", "accepted": "◐", "settled": "●", "regressed": "▲", "parked": "‖"}
SEVERITY_SHAPES: Final = {"TRACE": "·", "DEBUG": "·", "INFO": "·", "WARN": "!", "ERROR": "×", "FATAL": "×"}
FAILED: Final = "rgb(178,74,36)"
QUIET: Final = "rgb(118,118,110)"
SAID_FROM: Final = 0.2
"""The part of a bound from which its use is shown."""
ACCENT: Final = "rgb(24,120,120)"
_BARS: Final = " ▁▂▃▄▅▆▇█"

console = Console(highlight=False, soft_wrap=False)


def say(text: str = "", style: str = "") -> None:
    """Print one line. Only a terminal wraps it, and not where it names a command: that is to be copied whole."""
    console.print(Text(text, style=style), soft_wrap=not console.is_terminal or "obitus " in text)


def acts(answer: dict[str, Any]) -> None:
    """Print acts, newest first."""
    if not answer["acts"]:
        say("Nothing of that kind is on record.")
    for act in answer["acts"]:
        line = Text(f"{minute_of(act['time'])}  ", style=QUIET).append(f"{act['person'] or '(nobody)':<10} ", style="")
        refused = act["act"].endswith(("failed", "refused"))
        line.append(f"{act['act']:<16} ", style=FAILED if refused else "bold").append(act["subject"], style=QUIET)
        console.print(line, overflow="ellipsis", no_wrap=True)
    if answer["acts"] and len(answer["kinds"]) > 1:
        say(f"Kinds on record: {', '.join(answer['kinds'])}. Narrow with --act.", QUIET)


def sparkline(counts: list[int], width: int = 12) -> str:
    """Return a row of bars, e.g. ``▁▂▅█``, of at most ``width`` characters."""
    size = -(-len(counts) // width)
    sums = [sum(counts[i : i + size]) for i in range(0, len(counts), size)]
    most = max(sums, default=0)
    return "".join(_BARS[0 if n == 0 else max(1, round(n / most * 8))] for n in sums) if most else ""


def state_text(state: str, settled_in: str | None = None) -> Text:
    """Return a state as a shape and a word."""
    style = {"regressed": FAILED, "settled": ACCENT, "accepted": ACCENT}.get(state, "")
    text = f"{SHAPES.get(state, '?')} {state}"
    return Text(f"{text} in {safe(settled_in)}" if state == "settled" and settled_in else text, style=style)


def findings(findings: Sequence[Finding]) -> None:
    """Print the checks of ``obitus check``."""
    for finding in findings:
        mark, style = ("right", ACCENT) if finding.right else ("WRONG", FAILED)
        console.print(Text(f"{mark:<6} ", style=style).append(f"{finding.what:<8} {safe(finding.said)}"))


def heading(text: str) -> None:
    """Print a section's heading."""
    console.print()
    console.print(Text(text, style=f"bold {ACCENT}"))


def issues(answer: dict[str, Any], now_ms: int, *, asked: bool = False) -> None:
    """Print a page of issues; ``asked`` when a question narrowed it."""
    if not answer["issues"]:
        say("No issue failed in this window. Look further back with --window 14d, or drop a filter.")
        if asked:
            say(
                "Words are found whole, and values exactly: tide* is the beginning of a word, message~tide a part of anything."
            )
        return
    for row in answer["issues"]:
        line = Text(f"{row['number']:>4}  ", style="bold").append_text(state_text(row["state"]))
        line.append(" " * max(1, 19 - line.cell_len))
        line.append(f"{ago(ms_of(row['last_seen']), now_ms):<12}{count_of(row['failures'], 'failure'):>16}  ")
        line.append(sparkline(row["over_time"], 31), style=FAILED if row["state"] == "regressed" else QUIET)
        console.print(line)
        console.print(Padding(Text(safe(row["title"]), style="bold"), (0, 0, 0, 6)))
        priority = row["priority"]
        about = " · ".join(
            part
            for part in (
                row["app"],
                row["entry_point"],
                f"since {row['began_in'] or 'a release without a name'}",
                f"{priority['level']} priority" if priority["level"] != "low" else "",
                f"with {row['holder']}" if row["holder"] else "",
                f"waits for {row['waits_for']}" if row["waits_for"] else "",
                f"parked {row['parked']['said']}" if row["parked"] and row["parked"]["said"] else "",
            )
            if part
        )
        if row["reopened"]:
            console.print(Padding(Text(safe(row["reopened"]), style=FAILED), (0, 0, 0, 6)))
        console.print(Padding(Text(safe(about), style=QUIET), (0, 0, 1, 6)))
    shown, matching = len(answer["issues"]), answer["issues_in_all"]
    sums = f"{count_of(matching, 'issue')}, {count_of(answer['failures_in_all'], 'failure')}"
    if shown < matching:
        sums += f"; the first {shown} are shown. More: --cursor {answer['next']}"
    say(f"{sums}. One of them whole: obitus issue NUMBER", QUIET)


def apps(answer: dict[str, Any], now_ms: int) -> None:
    """Print all apps with their keys."""
    if not answer["apps"]:
        say("No app yet. Add one: obitus app add NAME")
        return
    table = Table(box=None, pad_edge=False, show_edge=False, header_style=QUIET)
    for name in ("App", "Latest report", "Releases", "Keys"):
        table.add_column(name, overflow="fold")
    for app in answer["apps"]:
        latest = ago(ms_of(app["last_report"]), now_ms) if app["last_report"] else "none yet"
        keys = ", ".join(
            f"{key['environment']} …{key['hint']}{' (may deploy)' if key['may_deploy'] else ''}{_of_the_day(key)}"
            for key in app["keys"]
            if not key["revoked"]
        )
        releases = Text(safe(", ".join(app["releases"][:4])))
        table.add_row(Text(safe(app["name"])), latest, releases, Text(safe(keys or "all revoked")))
    console.print(table)


def _of_the_day(key: dict[str, Any]) -> str:
    of_the_day = day_said(key["today"])
    return f" ({of_the_day})" if of_the_day else ""


def keys_of(answer: dict[str, Any]) -> None:
    """Print the active keys of an app, with today's use of each and its bounds."""
    table = Table(box=None, pad_edge=False, show_edge=False, header_style=QUIET)
    for name in ("Key", "", "Today", "In a day at most", ""):
        table.add_column(name, overflow="fold")
    for key in answer["keys"]:
        if not key["revoked"]:
            today = key["today"]
            table.add_row(
                str(key["id"]),
                Text(safe(f"{key['environment']} …{key['hint']}")),
                f"{count_of(today['reports'], 'report')}, {size_of(today['bytes'])}",
                f"{count_of(today['most_reports'], 'report')}, {size_of(today['most_bytes'])}",
                day_said(today),
            )
    console.print(table)


def day_said(today: dict[str, Any]) -> str:
    """Return the used part of a key's bound of a day, in words; '' where it is small."""
    if today["part"] >= 1:
        return "! nothing more is stored until midnight, UTC"
    if today["full"]:
        return f"! {today['part']:.0%}; all of it at about {today['full'][11:16]} UTC, as fast as today"
    return f"{today['part']:.0%}" if today["part"] >= SAID_FROM else ""


def pipeline_key(answer: dict[str, Any]) -> None:
    """Print a new key for a pipeline once, with the commands to run."""
    say(f"Key for deploys of {answer['app']} in {answer['environment']}. It is shown this once; only its hash is kept.")
    heading("Set in the pipeline")
    _lines("\n".join(line for line in answer["settings"].split("\n") if "RELEASE" not in line))
    heading("Run when a release has arrived")
    _lines("obitus deploy RELEASE")
    console.print()
    say(
        "It may report too. For an app make one without --may-deploy: an app's own key should not be able to report deploys.",
        QUIET,
    )


def page_key(answer: dict[str, Any]) -> None:
    """Print a new key for pages, with the lines to paste."""
    say(
        f"Key for pages of {answer['app']} in {answer['environment']}. Everybody who opens them may read it: it may only report."
    )
    _steps(answer)


def new_key(answer: dict[str, Any]) -> None:
    """Print a new key once, with the lines to paste."""
    say(f"Reporting key for {answer['app']} in {answer['environment']}. It is shown this once; only its hash is kept.")
    heading("Set in the app's environment")
    _lines(answer["settings"])
    if answer["install"]:
        heading("Install where it lives")
        _lines(f"pip install '{answer['install']}'")
    _steps(answer)


def _steps(answer: dict[str, Any]) -> None:
    for step in answer["steps"]:
        heading(safe(step["title"]))
        _lines(step["lines"])
    console.print()
    say(f"Then: {'python -m obitus check. ' if answer['install'] else ''}{safe(answer['then'])}", QUIET)


def _lines(text: str) -> None:
    for line in text.split("\n"):
        console.print(Text("  " + safe(line)), soft_wrap=True)


def inset(text: Text, columns: int) -> None:
    """Print text that is wrapped inside of a left margin."""
    console.print(Padding(text, (0, 0, 0, columns)))


def ms_of(text: str) -> int:
    """Return a time of an answer, Unix milliseconds."""
    return to_ms(datetime.fromisoformat(text))


def plain_table(*names: str, left: Collection[str]) -> Table:
    """Return a table without lines; columns are right-aligned, except those in ``left``."""
    table = Table(box=None, pad_edge=False, show_edge=False, header_style=QUIET)
    for name in names:
        table.add_column(name, justify="left" if name in left else "right", overflow="fold")
    return table


def ms_text(value: float | None) -> str:
    """Return milliseconds for people."""
    return "–" if value is None else f"{value:,.0f} ms"


def log_orders(app: str, answer: dict[str, Any]) -> None:
    """Print the temporary thresholds of an app's loggers."""
    if not answer["orders"]:
        say(
            f"Loggers of {safe(app)} send what its own settings say. To change it: obitus app logs {safe(app)} LOGGER DEBUG"
        )
        return
    table = plain_table("number", "logger", "from", "until, UTC", "who", left=("logger", "from", "until, UTC", "who"))
    for order in answer["orders"]:
        where = f" in {safe(order['environment'])}" if order["environment"] else ""
        until = minute_of(order["until"])
        table.add_row(
            str(order["id"]),
            f"{safe(order['logger']) or 'all loggers'}{where}",
            order["severity"],
            until,
            safe(order["person"]),
        )
    console.print(table)
    say(
        f"The app learns of it with the next answer that it gets. To end it early: obitus app logs {safe(app)} --end NUMBER",
        QUIET,
    )


def length_of(ms: float) -> str:
    """Write a length of time: ``250 ms``, ``1.20 s``."""
    if abs(ms) < 1000:
        return f"{ms:.0f} ms"
    return f"{ms / 1000:.2f} s" if abs(ms) < 60_000 else f"{ms / 60_000:.1f} min"


def size_of(octets: float) -> str:
    """Return a number of bytes in words: ``12.4 GB``."""
    for unit in ("bytes", "KB", "MB"):
        if octets < 1000:
            return f"{octets:,.0f} {unit}" if unit == "bytes" else f"{octets:,.1f} {unit}"
        octets /= 1000
    return f"{octets:,.1f} GB"
