"""One issue, as a report on the terminal."""

from __future__ import annotations

from itertools import groupby
from typing import Any

from rich.table import Table
from rich.text import Text

from obitus.cli import show_releases
from obitus.cli.safe import safe
from obitus.cli.show import FAILED, QUIET, SEVERITY_SHAPES, console, heading, inset, ms_of, say, state_text
from obitus.core.wording import ago, count_of

# Attributes that the message of a breadcrumb contains already.
_SAID_ALREADY = frozenset({"logger", "db.system.name", "http.request.method", "http.response.status_code"})


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
    line.append(f", {ago(ms_of(answer['state_since']), now_ms)}")
    if answer["from_older_releases"]:
        line.append(f"; {count_of(answer['from_older_releases'], 'failure')} from older releases")
    console.print(line)
    if answer["history"]:
        _para(safe(answer["history"][-1]["reason"]))
    if answer["parked"] and answer["parked"]["so_far"]:
        _para(safe(f"So far {answer['parked']['so_far']}."))
    waits = f", waits for {answer['waits_for']}" if answer["waits_for"] else ""
    _para(
        safe(
            f"With {answer['holder'] or 'nobody'}{waits}. {answer['priority']['level']} priority: {answer['priority']['reason']}."
        )
    )
    _para(f"obitus accept {number} | obitus settle {number} --from RELEASE|coming|now | obitus park {number}", QUIET)
    report = answer["latest"]["report"]
    heading("Where")
    if (more := answer["latest"]["represents"] - 1) > 0:
        _para(f"This failure represents {count_of(more, 'more', 'more')} like it within seconds.", QUIET)
    if report is None:
        _para(safe(answer["latest"]["gone"]))
    else:
        if counted := report.get("counted"):
            also = f", and {count_of(counted - 1, 'more', 'more')} with it" if counted > 1 else ""
            _para(
                f"The app failed so often that it only counted this one{also}. The stack is that of an earlier one.",
                QUIET,
            )
        for i, link in enumerate(report["exceptions"]):
            _exception(link, first=i == 0, all_frames=all_frames)
        heading("Leading up to it (UTC)")
        _trail(report, answer["latest"])
    show_releases.since(since)
    heading("Why this is one issue")
    for found in answer["why"]:
        for (kind, counted, reason), parts in groupby(found["parts"], lambda p: (p["kind"], p["counted"], p["reason"])):
            values = " → ".join(_cut(safe(part["value"]), 120) for part in parts)
            _para(f"{'counts' if counted else 'left out'}: {kind} {values}", "" if counted else QUIET)
            inset(Text(reason, style=QUIET), 6)


def earlier(answer: dict[str, Any], now_ms: int) -> None:
    """Print similar settled issues, with what was known and done then."""
    if not answer["earlier"]:
        looked_at = answer["looked_at"]
        say(
            f"None of {count_of(looked_at, 'settled issue')} near it looked enough like it."
            if looked_at
            else "Nothing like it was settled before."
        )
        return
    for issue in answer["earlier"]:
        line = Text(f"{issue['number']:>4}  ", style="bold").append_text(state_text(issue["state"]))
        console.print(
            line.append(safe(f"  {issue['title']}"), style="bold").append(safe(f"  {issue['app']}"), style=QUIET)
        )
        inset(Text(safe(f"Alike: {'; '.join(issue['alike'])}.")), 6)
        held = " The fix did not hold." if issue["state"] == "regressed" else ""
        inset(Text(safe(f"{ago(ms_of(issue['settled']), now_ms)}, after {issue['lasted']}: {issue['how']}{held}")), 6)
        for note in issue["known"]:
            looked = f"{note['looked_at']}: {note['found']}. " if note["looked_at"] else ""
            inset(Text(safe(f"{looked}{note['text']} ({note['person']})"), style=QUIET), 6)
    say("One of them whole: obitus issue NUMBER", QUIET)


def _exception(link: dict[str, Any], *, first: bool, all_frames: bool) -> None:
    how = {"cause": "caused by ", "context": "raised while handling ", "member": "with the member "}
    text = Text().append("" if first else how.get(link.get("relation", ""), "then "), style=QUIET)
    text.append(safe(link["type"]), style=f"bold {FAILED}").append(f": {safe(link.get('message', ''))[:300]}")
    inset(text, 2)
    hidden = 0
    frames = link.get("frames", [])
    any_own = any(frame.get("own", True) for frame in frames)
    for frame in frames:
        if not all_frames and any_own and not frame.get("own", True):
            hidden += 1
            continue
        hidden = _hidden(hidden)
        frame_of(frame)
    _hidden(hidden)
    for field, what in (("members_left_out", "further member"), ("links_left_out", "exception")):
        if link.get(field):
            say(f"    … {count_of(link[field], what)} not captured", QUIET)


def _hidden(count: int) -> int:
    if count:
        say(f"    … {count_of(count, 'library frame')} (--all-frames shows them)", QUIET)
    return 0


def frame_of(frame: dict[str, Any], most: int = 8) -> None:
    """Print a frame: where it is, its line, and the first of its locals."""
    place = safe(f"{frame.get('module') or frame.get('file', '')}.{frame['function']}")
    column = f":{frame['column']}" if frame.get("column") else ""
    file = safe(f"{frame.get('file', '')}:{frame.get('line', '?')}{column}")
    inset(Text(place, style="bold"), 4)
    inset(Text(file, style=QUIET), 6)
    if built := frame.get("built"):
        ran = safe(f"{built.get('file', '')}:{built.get('line')}:{built.get('column')}")
        inset(Text(f"ran as {ran}", style=QUIET), 6)
    source = frame.get("source")
    if source:
        inset(Text(f"→ {safe(source['line']).strip()}"), 6)
    for name, value in list((frame.get("locals") or {}).items())[:most]:
        inset(Text(f"{safe(name)} = {_cut(safe(value), 200)}", style=QUIET), 8)


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
