"""How answers look in a terminal of 80 columns. Text from reports is never read as markup or control codes."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from itertools import groupby
from typing import TYPE_CHECKING, Any, Final

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from obitus.cli.safe import safe
from obitus.core.clock import to_ms
from obitus.core.wording import ago, count_of

if TYPE_CHECKING:
    from obitus.client.check import Finding

SHAPES: Final = {"untriaged": "○", "accepted": "◐", "settled": "●", "regressed": "▲", "parked": "‖"}
SEVERITY_SHAPES: Final = {"TRACE": "·", "DEBUG": "·", "INFO": "·", "WARN": "!", "ERROR": "×", "FATAL": "×"}
FAILED: Final = "rgb(178,74,36)"
QUIET: Final = "rgb(118,118,110)"
ACCENT: Final = "rgb(24,120,120)"
_BARS: Final = " ▁▂▃▄▅▆▇█"

console = Console(highlight=False, soft_wrap=False)

# What the message of a breadcrumb says already.
_SAID_ALREADY = frozenset({"logger", "db.system.name", "http.request.method", "http.response.status_code"})


def say(text: str = "", style: str = "") -> None:
    """Print one line of ours."""
    console.print(Text(text, style=style))


def acts(answer: dict[str, Any]) -> None:
    """Print what was done, newest first."""
    if not answer["acts"]:
        say("Nothing of that kind is on record.")
    for act in answer["acts"]:
        said = Text(f"{act['time'][:16].replace('T', ' ')}  ", style=QUIET).append(
            f"{act['person'] or '(nobody)':<10} ", style=""
        )
        refused = act["act"].endswith(("failed", "refused"))
        said.append(f"{act['act']:<16} ", style=FAILED if refused else "bold").append(act["subject"], style=QUIET)
        console.print(said, overflow="ellipsis", no_wrap=True)
    if answer["acts"] and len(answer["kinds"]) > 1:
        say(f"Kinds on record: {', '.join(answer['kinds'])}. Narrow with --act.", QUIET)


def course(counts: list[int], width: int = 12) -> str:
    """Return a row of bars, e.g. ``▁▂▅█``, of at most ``width`` characters."""
    size = -(-len(counts) // width)
    sums = [sum(counts[i : i + size]) for i in range(0, len(counts), size)]
    most = max(sums, default=0)
    return "".join(_BARS[0 if n == 0 else max(1, round(n / most * 8))] for n in sums) if most else ""


def state_text(state: str, settled_in: str | None = None) -> Text:
    """Return a state as a shape and a word."""
    style = {"regressed": FAILED, "settled": ACCENT, "accepted": ACCENT}.get(state, "")
    said = f"{SHAPES.get(state, '?')} {state}"
    return Text(f"{said} in {safe(settled_in)}" if state == "settled" and settled_in else said, style=style)


def findings(found: Sequence[Finding]) -> None:
    """Print what ``obitus check`` looked at."""
    for finding in found:
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
        said = Text(f"{row['number']:>4}  ", style="bold").append_text(state_text(row["state"]))
        said.append(" " * max(1, 19 - said.cell_len))
        said.append(f"{ago(_ms(row['last_seen']), now_ms):<12}{count_of(row['failures'], 'failure'):>16}  ")
        said.append(course(row["over_time"], 31), style=FAILED if row["state"] == "regressed" else QUIET)
        console.print(said)
        console.print(Padding(Text(safe(row["title"]), style="bold"), (0, 0, 0, 6)))
        about = " · ".join(
            part
            for part in (row["app"], row["entry_point"], f"since {row['began_in'] or 'a release without a name'}")
            if part
        )
        console.print(Padding(Text(safe(about), style=QUIET), (0, 0, 1, 6)))
    shown, matching = len(answer["issues"]), answer["issues_in_all"]
    sums = f"{count_of(matching, 'issue')}, {count_of(answer['failures_in_all'], 'failure')}"
    if shown < matching:
        sums += f"; the first {shown} are shown. More: --cursor {answer['next']}"
    say(f"{sums}. One of them whole: obitus issue NUMBER", QUIET)


def issue(answer: dict[str, Any], since: dict[str, Any], now_ms: int, *, all_frames: bool) -> None:
    """Print one issue as a report, top to bottom."""
    number = answer["number"]
    console.print(Text(f"Issue {number}  ", style="bold").append(safe(answer["title"])))
    heading("What failed")
    _para(answer["what_failed"])
    if answer["message"]:
        _para(f"“{safe(answer['message'])}”")
    heading("What now")
    line = Text("  ").append_text(state_text(answer["state"], answer["settled_in"]))
    line.append(f", {ago(_ms(answer['state_since']), now_ms)}")
    if answer["from_older_releases"]:
        line.append(f"; {count_of(answer['from_older_releases'], 'failure')} from older releases")
    console.print(line)
    if answer["history"]:
        _para(safe(answer["history"][-1]["reason"]))
    _para(f"obitus accept {number} | obitus settle {number} --from RELEASE|coming|now | obitus park {number}", QUIET)
    report = answer["latest"]["report"]
    heading("Where")
    if report is None:
        _para(safe(answer["latest"]["gone"]))
    else:
        for i, link in enumerate(report["exceptions"]):
            _exception(link, first=i == 0, all_frames=all_frames)
        heading("Leading up to it (UTC)")
        _trail(report, answer["latest"])
    from obitus.cli import show_releases

    show_releases.since(since)
    heading("Why this is one issue")
    for found in answer["why"]:
        for (kind, counted, reason), parts in groupby(found["parts"], lambda p: (p["kind"], p["counted"], p["reason"])):
            values = " → ".join(_cut(safe(part["value"]), 120) for part in parts)
            _para(f"{'counts' if counted else 'left out'}: {kind} {values}", "" if counted else QUIET)
            inset(Text(reason, style=QUIET), 6)


def apps(answer: dict[str, Any], now_ms: int) -> None:
    """Print all apps with their keys."""
    if not answer["apps"]:
        say("No app yet. Add one: obitus app add NAME")
        return
    table = Table(box=None, pad_edge=False, show_edge=False, header_style=QUIET)
    for name in ("App", "Latest report", "Releases", "Keys"):
        table.add_column(name, overflow="fold")
    for app in answer["apps"]:
        latest = ago(_ms(app["last_report"]), now_ms) if app["last_report"] else "none yet"
        keys = ", ".join(
            f"{key['environment']} …{key['hint']}{' (may deploy)' if key['may_deploy'] else ''}"
            for key in app["keys"]
            if not key["revoked"]
        )
        releases = Text(safe(", ".join(app["releases"][:4])))
        table.add_row(Text(safe(app["name"])), latest, releases, Text(safe(keys or "all revoked")))
    console.print(table)


def pipeline_key(answer: dict[str, Any]) -> None:
    """Print a new key for a pipeline once, with what the pipeline runs."""
    say(f"Key for deploys of {answer['app']} in {answer['environment']}. It is shown this once; only its hash is kept.")
    heading("Set in the pipeline")
    _lines("\n".join(line for line in answer["settings"].split("\n") if "RELEASE" not in line))
    heading("Run when a release has arrived")
    _lines("obitus deploy RELEASE")
    console.print()
    say(
        "It may report too. For an app make one without --may-deploy: what an app holds should not be able to report deploys.",
        QUIET,
    )


def new_key(answer: dict[str, Any]) -> None:
    """Print a new key once, with the lines to paste."""
    say(f"Reporting key for {answer['app']} in {answer['environment']}. It is shown this once; only its hash is kept.")
    heading("Set in the app's environment")
    _lines(answer["settings"])
    if answer["install"]:
        heading("Install where it lives")
        _lines(f"pip install '{answer['install']}'")
    for step in answer["steps"]:
        heading(safe(step["title"]))
        _lines(step["lines"])
    console.print()
    say(f"Then: {'python -m obitus check. ' if answer['install'] else ''}{safe(answer['then'])}", QUIET)


def _lines(text: str) -> None:
    for line in text.split("\n"):
        console.print(Text("  " + safe(line)), soft_wrap=True)


def _exception(link: dict[str, Any], *, first: bool, all_frames: bool) -> None:
    how = {"cause": "caused by ", "context": "raised while handling ", "member": "with the member "}
    said = Text().append("" if first else how.get(link.get("relation", ""), "then "), style=QUIET)
    said.append(safe(link["type"]), style=f"bold {FAILED}").append(f": {safe(link.get('message', ''))[:300]}")
    inset(said, 2)
    hidden = 0
    frames = link.get("frames", [])
    any_own = any(frame.get("own", True) for frame in frames)
    for frame in frames:
        if not all_frames and any_own and not frame.get("own", True):
            hidden += 1
            continue
        hidden = _hidden(hidden)
        _frame(frame)
    _hidden(hidden)
    for field, what in (("members_left_out", "further member"), ("links_left_out", "exception")):
        if link.get(field):
            say(f"    … {count_of(link[field], what)} not captured", QUIET)


def _hidden(count: int) -> int:
    if count:
        say(f"    … {count_of(count, 'library frame')} (--all-frames shows them)", QUIET)
    return 0


def _frame(frame: dict[str, Any]) -> None:
    place = safe(f"{frame.get('module') or frame.get('file', '')}.{frame['function']}")
    column = f":{frame['column']}" if frame.get("column") else ""
    file = safe(f"{frame.get('file', '')}:{frame.get('line', '?')}{column}")
    inset(Text(place, style="bold"), 4)
    inset(Text(file, style=QUIET), 6)
    source = frame.get("source")
    if source:
        inset(Text(f"→ {safe(source['line']).strip()}"), 6)
    for name, value in list((frame.get("locals") or {}).items())[:8]:
        inset(Text(f"{safe(name)} = {_cut(safe(value), 200)}", style=QUIET), 8)


def inset(text: Text, columns: int) -> None:
    """Print text that is wrapped inside of a left margin."""
    console.print(Padding(text, (0, 0, 0, columns)))


def _trail(report: dict[str, Any], latest: dict[str, Any]) -> None:
    left_out = report.get("trail_left_out", 0)
    if left_out:
        say(f"  … {count_of(left_out, 'older breadcrumb')} dropped", QUIET)
    table = Table(box=None, pad_edge=False, show_edge=False, show_header=False, expand=True, padding=(0, 1, 0, 0))
    table.add_column(no_wrap=True, style=QUIET)
    table.add_column(no_wrap=True)
    table.add_column(no_wrap=True)
    table.add_column(ratio=1, overflow="fold")
    for crumb in report.get("trail", []):
        hidden = _SAID_ALREADY | ({"duration_ms"} if crumb["kind"] == "statement" else set())
        given = crumb.get("attributes", {}).items()
        data = {name: value for name, value in given if name not in hidden and not name.startswith("code.")}
        extra = "  " + ", ".join(f"{safe(k)}={safe(v)}" for k, v in data.items()) if data else ""
        severity = crumb.get("severity", "INFO")
        message = Text(safe(crumb["message"])).append(_cut(extra, 160), style=QUIET)
        shape = Text(
            f"{SEVERITY_SHAPES.get(severity, '?')} {severity}", style=FAILED if severity in ("ERROR", "FATAL") else ""
        )
        table.add_row("  " + crumb["time"][11:23], crumb["kind"], shape, message)
    outermost = report["exceptions"][0]
    table.add_row(
        "  " + latest["time"][11:23],
        "failure",
        Text(f"× {latest['severity']}", style=FAILED),
        Text(f"{safe(outermost['type'])}: {_cut(safe(outermost.get('message', '')), 200)}", style="bold"),
    )
    console.print(table)
    request = report.get("request")
    if request:
        _para(
            f"{request.get('method', '')} {safe(request.get('url', ''))} from {safe(request.get('client', ''))}", QUIET
        )


def _para(text: str, style: str = "") -> None:
    inset(Text(text, style=style), 2)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def _ms(text: str) -> int:
    return to_ms(datetime.fromisoformat(text))
