"""How failures, logs and runs look in a terminal: one line each, newest last."""

from __future__ import annotations

from typing import Any, Final

from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from obitus.cli.safe import safe
from obitus.cli.show import ACCENT, FAILED, QUIET, SEVERITY_SHAPES, console, ms_of, say, sparkline
from obitus.core.terms import value_text
from obitus.core.wording import count_of, minute_of, span

NOUNS: Final = {"failures": "failure", "logs": "log record", "runs": "run"}
OUTCOME_SHAPES: Final = {"ok": "●", "refused": "◇", "failed": "×"}
_SAID: Final = {
    "failures": {"severity", "type", "message", "entry_point", "time", "received"},
    "logs": {"severity", "logger", "message", "time", "received"},
    "runs": {"outcome", "status", "duration", "entry_point", "time", "received"},
}


def records(
    kind: str, answer: dict[str, Any], columns: list[str], sort: str | None, *, whole: bool, asked: bool
) -> None:
    """Print a page of records, the newest last; those in the order of a field from the first on."""
    rows = answer["records"] if sort else list(reversed(answer["records"]))
    noun = NOUNS[kind]
    length = span(ms_of(answer["window"]["end"]) - ms_of(answer["window"]["start"]))
    if not rows:
        say(
            f"No {noun} of the last {length}{' matches' if asked else ''}. Look further back with --window 14d{', or ask for less' if asked else ''}."
        )
        if answer["hint"]:
            say(safe(answer["hint"]), FAILED)
        elif asked:
            say(
                "Words are found whole, and values exactly: tide* is the beginning of a word, message~tide a part of anything.",
                QUIET,
            )
    elif columns:
        _table(rows, columns)
    else:
        day = ""
        for record in rows:
            if record["time"][:10] != day:
                day = record["time"][:10]
                say(f"{day}, UTC", QUIET)
            row(record, [], whole=whole)
    if answer["cut"]:
        say(safe(answer["cut"]), FAILED)
    if answer["next"]:
        say(
            f"{len(rows)} are shown. The next ones:" if sort else f"The newest {len(rows)} are shown. Older ones:",
            QUIET,
        )
        console.print(Text(f"--cursor {answer['next']}", style=QUIET), soft_wrap=True)
    elif rows:
        say(
            f"{count_of(len(rows), noun)} of the last {length}. Count them: --summary 'count by …'. All of one run: --run ID",
            QUIET,
        )


def row(record: dict[str, Any], columns: list[str], *, whole: bool = False) -> None:
    """Print one record on a line."""
    values = record["values"]
    if columns:
        console.print(
            Text("  ".join(_value(name, values.get(name)) for name in columns)), overflow="ellipsis", no_wrap=True
        )
        return
    line = Text(record["time"][11:23] + "  ", style=QUIET)
    line.append_text(_LINES[record["kind"]](record))
    console.print(line, overflow="fold", no_wrap=False, soft_wrap=True)
    if whole:
        _whole(record)


def together(answer: dict[str, Any], *, whole: bool) -> None:
    """Print everything of a run or a trace, oldest first, each with its app."""
    if not answer["records"]:
        say("Nothing is known of that id: no failure, log record or run has it.")
    apps = {record["values"].get("app", "") for record in answer["records"]}
    width = max((len(name) for name in apps), default=0)
    for record in answer["records"]:
        if len(apps) > 1:
            console.print(Text(f"{safe(record['values'].get('app', '')):<{width}}  ", style=ACCENT), end="")
        row(record, [], whole=whole)
    if answer["cut"]:
        say(safe(answer["cut"]), FAILED)
    if answer["failures"]:
        numbers = ", ".join(str(number) for number in dict.fromkeys(record["issue"] for record in answer["failures"]))
        say(
            f"{count_of(len(answer['records']), 'record')}. It failed: issue {numbers}. Read it: obitus issue NUMBER",
            QUIET,
        )
    elif answer["records"]:
        say(f"{count_of(len(answer['records']), 'record')}, and no failure.", QUIET)


def summary(kind: str, answer: dict[str, Any]) -> None:
    """Print a summary: a line for each group, the greatest first, with a sparkline where it is over time."""
    noun, of = NOUNS[kind], _measured(answer["summary"])
    title = Text(safe(answer["summary"]), style="bold")
    console.print(title.append(f"  ·  {count_of(answer['records'], noun)}", style=QUIET))
    if answer["over_time"] is not None:
        line = Text(f"{_figure(of, answer['value']):>12}  ", style="bold").append("in all  " if answer["by"] else "")
        console.print(line.append(_sparkline(answer["over_time"]), style=QUIET))
        ends = f"from {minute_of(answer['slices'][0])} in slices of {span(answer['slice_ms'])}, UTC"
        say(f"{'':14}{ends}", QUIET)
    elif not answer["by"]:
        say(f"{_figure(of, answer['value']):>12}")
    for group in answer["groups"]:
        keys = "  ".join(_value(name, key) or "(none)" for name, key in zip(answer["by"], group["keys"], strict=True))
        line = Text(f"{_figure(of, group['value']):>12}  ", style="bold").append(safe(keys))
        if of:
            line.append(f"  {count_of(group['records'], noun)}", style=QUIET)
        console.print(line, overflow="ellipsis", no_wrap=True)
        if group["over_time"] is not None:
            say(f"{'':14}{_sparkline(group['over_time'])}", QUIET)
    more_groups = answer["groups_in_all"] - len(answer["groups"])
    if more_groups > 0:
        say(
            f"{count_of(more_groups, 'more value')} with less. More of them: --limit {len(answer['groups']) * 4}", QUIET
        )
    if answer["not_listed"]:
        say(f"{count_of(answer['not_listed'], noun)} with still other values are counted in all only.", QUIET)
    if answer["cut"]:
        say(f"{safe(answer['cut'])} Counted from {minute_of(answer['back_to'])}.", FAILED)


def templates(answer: dict[str, Any]) -> None:
    """Print templates, the most frequent first; with the worst severity of each."""
    for template in answer["templates"]:
        severity = template["severity"]
        style = FAILED if severity in ("ERROR", "FATAL") else "bold" if severity == "WARN" else QUIET
        line = Text(f"{template['records']:>10,}  ", style="bold").append(
            f"{SEVERITY_SHAPES[severity]} {severity:<5}  ", style=style
        )
        console.print(line.append(safe(template["text"]) or "(empty)"), overflow="ellipsis", no_wrap=True)
    more_templates = answer["templates_in_all"] - len(answer["templates"])
    if more_templates > 0:
        say(
            f"{count_of(more_templates, 'more template')} with fewer. More of them: --limit {len(answer['templates']) * 4}",
            QUIET,
        )
    sums = f"{count_of(answer['records'], 'log record')}, {count_of(answer['templates_in_all'], 'template')}"
    say(f"{sums}; … stands for a value where a template was found.", QUIET)
    if answer["cut"]:
        say(f"{safe(answer['cut'])} Read from {minute_of(answer['back_to'])}.", FAILED)


def _log(record: dict[str, Any]) -> Text:
    values = record["values"]
    severity = values.get("severity", "")
    style = FAILED if severity in ("ERROR", "FATAL") else "bold" if severity == "WARN" else QUIET
    line = Text(f"{SEVERITY_SHAPES.get(severity, '·')} {severity:<5}  ", style=style)
    line.append(f"{safe(values.get('logger', '')):<22} ", style=ACCENT)
    return line.append(safe(values.get("message", "")))


def _run(record: dict[str, Any]) -> Text:
    values = record["values"]
    outcome = values.get("outcome", "")
    style = FAILED if outcome == "failed" else ""
    line = Text(f"{OUTCOME_SHAPES.get(outcome, '·')} {outcome:<7}  ", style=style)
    line.append(f"{_value('status', values.get('status')):>3}  {_figure('duration', values.get('duration')):>9}  ")
    return line.append(safe(values.get("entry_point", "")), style=ACCENT)


def _failure(record: dict[str, Any]) -> Text:
    values = record["values"]
    severity = values.get("severity", "")
    line = Text(f"{SEVERITY_SHAPES.get(severity, '×')} {severity:<5}  ", style=FAILED)
    line.append(safe(values.get("type", "")), style="bold").append(f"  {safe(values.get('message', ''))}")
    where = " · ".join(part for part in (safe(values.get("entry_point", "")), f"issue {record['issue']}" if record["issue"] else "") if part)  # fmt: skip
    return line.append(f"  {where}", style=QUIET)


_LINES: Final = {"logs": _log, "runs": _run, "failures": _failure}


def _whole(record: dict[str, Any]) -> None:
    for name, value in sorted(record["values"].items()):
        if name not in _SAID[record["kind"]]:
            line = Text(f"{safe(name)} = ", style=QUIET).append(_value(name, value), style="")
            console.print(Padding(line, (0, 0, 0, 14)))


def _table(rows: list[dict[str, Any]], columns: list[str]) -> None:
    table = Table(box=None, pad_edge=False, show_edge=False, header_style=QUIET)
    for name in columns:
        number = all(type(row["values"].get(name)) in (int, float, type(None)) for row in rows)
        table.add_column(Text(safe(name)), overflow="fold", justify="right" if number else "left")
    for record in rows:
        table.add_row(*(Text(_value(name, record["values"].get(name))) for name in columns))
    console.print(table)


def _value(name: str, value: Any) -> str:
    if value is None:
        return ""
    if name in ("time", "received"):
        return str(value)[:23].replace("T", " ")
    return safe(value_text(value))


def _measured(text: str) -> str:
    """Return the field that a summary measures, '' where it counts."""
    words = text.split(" ")
    return "" if words[0] == "count" else words[1]


def _figure(of: str, value: float | None) -> str:
    """Return a number for people: durations with their unit, others with three significant digits at least."""
    if value is None:
        return "–"
    if of == "duration" or of.endswith("_ms"):
        return f"{value:,.0f} ms" if value >= 10 else f"{value:.2g} ms"
    if of.endswith(("_s", ".duration", "_seconds")):
        return f"{value:,.2f} s"
    return f"{value:,.0f}" if float(value).is_integer() or abs(value) >= 1000 else f"{value:,.3g}"


def _sparkline(values: list[float | None]) -> str:
    heights = [value or 0 for value in values]
    least = min((value for value in heights if value > 0), default=0)
    # Whole numbers, for bars: a small number is still more than none.
    return sparkline(
        [round(1000 * value / max(heights)) if value else 0 for value in heights] if least else [0 for _ in heights], 60
    )
