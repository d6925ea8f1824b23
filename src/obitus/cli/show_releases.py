"""How releases, comparisons and since-when look in a terminal of 80 columns."""

from __future__ import annotations

from itertools import groupby
from typing import Any, Final

from rich.table import Table
from rich.text import Text

from obitus.cli.safe import safe
from obitus.cli.show import ACCENT, FAILED, QUIET, console, heading, inset, say
from obitus.core.wording import count_of, minute_of

KIND_SHAPES: Final = {
    "new": "+",
    "regressed": "▲",
    "worse": "↑",
    "gone": "∅",
    "better": "↓",
    "unchanged": "=",
    "cannot tell": "?",
}
VERDICT_SHAPES: Final = {
    "held": "●",
    "too early to say": "◔",
    "still there but rarer": "↓",
    "regressed": "▲",
    "cannot tell": "?",
}
_BAD: Final = ("new", "regressed", "worse")
MOST_SHOWN: Final = 12


def releases(answer: dict[str, Any]) -> None:
    """Print an app's releases, newest first."""
    if not answer["releases"]:
        say("No release yet. One appears with its first report, or: obitus release add VERSION --app APP")
        return
    table = _table("Release", "Arrived (UTC)", "", "Runs", "Per 1,000 runs", "New, regressed, worse")
    for row in answer["releases"]:
        new_and_worse = Text(_new_and_worse(row), style=FAILED if row["regressed"] or row["failing_more_often"] else "")
        places = row["places"] or [None]
        for i, place in enumerate(places):
            name = Text(safe(row["release"]), style="bold") if i == 0 else Text("")
            if place is None:
                table.add_row(
                    name, Text("not yet" if row["first_seen"] is None else "", style=QUIET), "", "", "", new_and_worse
                )
                continue
            arrived = _arrived(place)
            where = Text(f"{safe(place['environment'])}{', canary' if place['canary'] else ''}").append(
                ", live" if place["live"] else "", style=ACCENT
            )
            table.add_row(
                name,
                arrived,
                where,
                f"{place['runs']:,}" if place["runs"] else "",
                _rate(place["rate"]),
                new_and_worse if i == 0 else "",
            )
    console.print(table)
    if any(place["inferred"] for row in answer["releases"] for place in row["places"]):
        say("* from the first report; nobody reported this deploy. Report it: obitus deploy RELEASE", QUIET)
    shown = (
        f"{count_of(len(answer['releases']), 'release')} of {answer['releases_in_all']:,}"
        if answer["next"]
        else count_of(len(answer["releases"]), "release")
    )
    more = f" More: --cursor {answer['next']}." if answer["next"] else ""
    say(f"{shown}.{more} One whole: obitus release RELEASE. Two: obitus compare BEFORE NOW", QUIET)


def release(answer: dict[str, Any]) -> None:
    """Print one release."""
    console.print(Text(f"{safe(answer['release'])} ", style="bold").append(f"of {answer['app']}", style=QUIET))
    heading("Where it is")
    for place in answer["places"]:
        arrived = f"arrived {minute_of(place['deployed'])} UTC" if place["deployed"] else "never arrived"
        line = f"{safe(place['environment'])}: {arrived}{' (from its first report)' if place['inferred'] else ''}{', as a canary' if place['canary'] else ''}"
        inset(
            Text(line).append(
                ", live" if place["live"] else ", not live any more", style=ACCENT if place["live"] else QUIET
            ),
            2,
        )
        if place["runs"]:
            inset(
                Text(
                    f"{place['runs']:,} runs, {_share(place['clean'], ' clean')}; failures per 1,000 runs: {_rate(place['rate'])}",
                    style=QUIET,
                ),
                4,
            )
        elif place["failures"]:
            inset(
                Text(
                    f"{count_of(place['failures'], 'failure')}; no runs are counted, so there is no rate", style=QUIET
                ),
                4,
            )
    if not answer["places"]:
        inset(Text("It has not arrived yet."), 2)
    _issues("First seen in it", answer["first_here"])
    _issues("Regressed in it", answer["regressed_here"])
    if answer["rate_regressions"]:
        heading("Fails more since it")
        for rate in answer["rate_regressions"][:MOST_SHOWN]:
            what = (
                f"issue {rate['issue']['number']}, {safe(rate['issue']['title'])}"
                if rate["issue"]
                else safe(rate["entry_point"] or "")
            )
            inset(Text(f"↑ {'' if rate['sure'] else 'perhaps: '}{what}", style=FAILED if rate["sure"] else ""), 2)
            inset(Text(rate["reason"], style=QUIET), 4)
    if answer["entry_points"]:
        heading("Entry points")
        table = _table("", "Runs", "Failed", "Clean")
        for point in answer["entry_points"][:MOST_SHOWN]:
            clean = f"{point['clean']['value']:.2%}" if point["clean"] else ""
            table.add_row("  " + safe(point["entry_point"]), f"{point['runs']:,}", f"{point['failed']:,}", clean)
        console.print(table)
    heading("Commits")
    for commit in answer["latest_commits"][:MOST_SHOWN]:
        inset(
            Text(f"{commit['id'][:9]} ", style=QUIET)
            .append(safe(commit["subject"]))
            .append(f"  {safe(commit['author'])}", style=QUIET),
            2,
        )
    if not answer["latest_commits"]:
        inset(
            Text(
                f"none are known. obitus release add {safe(answer['release'])} --app {answer['app']} --git PATH reports them",
                style=QUIET,
            ),
            2,
        )
    elif answer["commits"] > MOST_SHOWN:
        inset(Text(f"… of {answer['commits']:,}", style=QUIET), 2)
    if answer["beside"]:
        say(
            f"\nBeside {safe(answer['beside'])}, live too: obitus compare {safe(answer['beside'])} {safe(answer['release'])} --app {answer['app']} --same-time",
            QUIET,
        )
    elif answer["previous"]:
        say(
            f"\nAgainst the one before: obitus compare {safe(answer['previous'])} {safe(answer['release'])} --app {answer['app']}",
            QUIET,
        )


def compared(answer: dict[str, Any]) -> None:
    """Print two releases compared."""
    say(safe(answer["sentence"]), "bold")
    table = _table("", "Runs", "Failed runs", "Clean runs", "Failures per 1,000 runs")
    for side in (answer["before"], answer["now"]):
        clean = _share(side["clean"]) if side["clean"] else "no runs counted"
        table.add_row(
            "  " + safe(side["release"]), f"{side['runs']:,}", f"{side['failed']:,}", clean, _rate(side["rate"])
        )
    console.print(table)
    for title, found in (("Issues", answer["issues"]), ("Entry points", answer["entry_points"])):
        for kind, group in groupby(found, lambda one: one["kind"]):
            rows = list(group)
            heading(f"{title}, {kind}: {len(rows)}")
            most = MOST_SHOWN if kind in _BAD or kind in ("gone", "better") else 3
            for issue_row in rows[:most]:
                what = (
                    f"{issue_row['issue']['number']:>4}  {safe(issue_row['issue']['title'])}"
                    if issue_row["issue"]
                    else safe(issue_row["entry_point"])
                )
                inset(Text(f"{KIND_SHAPES[kind]} {what}", style=FAILED if kind in _BAD else ""), 2)
                inset(Text(safe(issue_row["reason"]), style=QUIET), 4)
            if len(rows) > most:
                inset(Text(f"… and {len(rows) - most} more (--json has them all)", style=QUIET), 2)
    say(f"\nOf what is called worse, gone or better, at most {answer['false_share']:.0%} is so by chance.", QUIET)


def since(answer: dict[str, Any]) -> None:
    """Print since when an issue exists, whether the fix held, and which change likely caused it."""
    heading("Since when")
    inset(Text(safe(answer["sentence"])), 2)
    table = _table("", "", "Failures", "per 1,000 runs", "Arrived (UTC)", "")
    most = max((entry["rate"]["value"] if entry["rate"] else 0 for entry in answer["lane"]), default=0)
    for entry in answer["lane"]:
        rate = entry["rate"]
        bar = (
            "█" * max(1, round(rate["value"] / most * 12))
            if rate and rate["value"] and most
            else ("·" if entry["failures"] else "")
        )
        notes = ["has the fix" if entry["has_fix"] else "", "fails more often" if entry["fails_more_often"] else ""]
        arrived = _arrived(entry) or "not yet"
        table.add_row(
            "  " + safe(entry["release"]), Text(bar, style=FAILED), f"{entry['failures']:,}", f"{_figures(rate['value'])} of {entry['runs']:,}" if rate else "no runs counted",
            arrived, Text(", ".join(note for note in notes if note), style=QUIET),
        )  # fmt: skip
    if answer["lane"]:
        console.print(table)
    for rate in answer["rate_regressions"][:2]:
        inset(
            Text(
                f"↑ {'' if rate['sure'] else 'perhaps '}in {safe(rate['release'])}: {safe(rate['reason'])}",
                style=FAILED if rate["sure"] else "",
            ),
            2,
        )
    if answer["verdicts"]:
        heading("Did the fix hold?")
        for verdict in answer["verdicts"]:
            where = f" in {safe(verdict['environment'])}" if verdict["environment"] else ""
            inset(
                Text(
                    f"{VERDICT_SHAPES[verdict['verdict']]} {verdict['verdict']}{where}",
                    style=FAILED if verdict["verdict"] in _BAD else ACCENT,
                ),
                2,
            )
            inset(Text(safe(verdict["reason"])), 4)
    links = [("Revealed by the fix of", answer["revealed_by"])] if answer["revealed_by"] else []
    links += [("Its fix revealed", revealed) for revealed in answer["revealed"]]
    for words, linked in links:
        inset(
            Text(
                f"{words} issue {linked['issue']['number']}, {safe(linked['issue']['title'])}: {safe(linked['reason'])}."
            ),
            2,
        )
    for change in answer["changes"]:
        heading(f"Likely changes in {safe(change['release'])}, where {change['what']}")
        if change["note"]:
            inset(Text(safe(change["note"]), style=QUIET), 2)
        for place, linked in enumerate(change["commits"], 1):
            commit = linked["commit"]
            inset(
                Text(f"{place}. {commit['id'][:9]} ", style=QUIET)
                .append(safe(commit["subject"]), style="bold")
                .append(f"  {safe(commit['author'])}, {commit['time'][:10]}", style=QUIET),
                2,
            )
            inset(Text(safe("; ".join(linked["reasons"][:3])), style=QUIET), 5)


def _issues(title: str, issues: list[dict[str, Any]]) -> None:
    if not issues:
        return
    heading(f"{title}: {len(issues)}")
    for issue in issues[:MOST_SHOWN]:
        inset(
            Text(f"{issue['number']:>4}  ", style="bold")
            .append(safe(issue["title"]))
            .append(f"  {issue['state']}", style=QUIET),
            2,
        )


def _new_and_worse(row: dict[str, Any]) -> str:
    parts = [
        (row["new_issues"], "new"),
        (row["regressed"], "regressed"),
        (row["failing_more_often"], "failing more often"),
    ]
    return ", ".join(f"{n} {what}" for n, what in parts if n)


def _arrived(place: dict[str, Any]) -> str:
    """Write when a release arrived, to the minute, with a star where the deploy was not reported; nothing where it has not arrived."""
    return f"{place['deployed'][5:16].replace('T', ' ')}{'*' if place['inferred'] else ''}" if place["deployed"] else ""


def _share(share: dict[str, Any], of: str = "") -> str:
    return f"{share['value']:.2%}{of} ({share['low']:.2%} to {share['high']:.2%})"


def _rate(rate: dict[str, Any] | None) -> str:
    if rate is None:
        return ""
    high = "any" if rate["high"] is None else _figures(rate["high"])
    return f"{_figures(rate['value'])} ({_figures(rate['low'])}–{high})"


def _figures(value: float) -> str:
    """Write a rate with three figures at most, like the console."""
    return f"{value:,.0f}" if value >= 100 or value == 0 else f"{value:.1f}" if value >= 1 else f"{value:.2g}"


def _table(*names: str) -> Table:
    table = Table(box=None, pad_edge=False, show_edge=False, header_style=QUIET, padding=(0, 2, 0, 0))
    for name in names:
        numbers = name in ("Runs", "Failed", "Failed runs", "Failures", "Clean")
        table.add_column(
            name,
            justify="right" if numbers else "left",
            overflow="fold",
            no_wrap=name in ("Runs", "Arrived (UTC)", "Release", "Per 1,000 runs", "Failures per 1,000 runs"),
        )
    return table
