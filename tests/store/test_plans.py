"""No statement that a page waits for goes through a whole table that grows: the plans of all statements of the store, printed and looked at."""

from __future__ import annotations

import importlib
import pkgutil
import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import obitus.store
from obitus.core.clock import DAY_MS
from obitus.store import calls, issues, now, windows
from obitus.store.days.files import open_day
from obitus.store.migrations import open_for_writing
from obitus.store.windows import Window, counted_within

# Tables that grow with what is reported, or with what happens.
GROWS = {
    "failures", "issue_counts", "issue_days", "issue_users", "run_counts", "run_slots", "call_slots", "link_slots", "warning_slots", "latest_spans", "uncalled", "release_hours", "issue_releases", "release_runs", "issue_history", "fingerprints",
    "fingerprint_traits", "fingerprint_keys", "events", "acts", "regrouped", "commits", "commit_files", "growing_tallies", "ids", "evidence", "logs", "runs", "texts",
}  # fmt: skip
# Statements that go through one all the same, and why that is right.
MAY = {
    "obitus.store.regrouping._STARTS_AT": "the newest failures of an app, by number, up to a bound",
    "obitus.store.regrouping._COUNT_OF_APP": "how many failures a regrouping will look at: it reads each of them after that",
    "obitus.store.days.writing._TRIM": "after a kill, before anything is written",
    "obitus.store.days.writing._STAND_FOR_OTHERS": "the same",
    "obitus.store.evidence._SAMPLES": "the newest, by place, up to a bound",
    "obitus.store.rules._LATEST": "the newest, by place, up to a bound",
    "obitus.store.issues._FAILURE_COLUMNS": "the beginning of statements that stand beside it",
    "obitus.store.removing._REST": "the rest of a removed app, once",
    "obitus.store.asking.compiling._TEXTS": "the texts of a day that repeat, once for a question: names, not records",
    "obitus.store.asking.compiling.PAIRS": "the same",
    "obitus.store.asking.expressions.PAIRS": "the same",
    "obitus.store.backups.verifying._COUNTS": "looks at every count and every row, by a command of its own",
    "obitus.store.days.writing._IDS": "of a file that has lost something, once when it is opened",
    "obitus.store.backups.verifying.WHOSE": "a part of these",
    "obitus.store.issue_users.WHOSE": "the same",
    "obitus.store.issue_users._NONE": "the users of all issues counted again, by the same command",
    "obitus.store.retention._HOLDS": "the first of a day that is to go, once for each day, on a thread of its own",
    "obitus.store.evidence._IDS": "the ids of log records that are opened: an index would cost each record more",
}
_SCAN = re.compile(r"^SCAN (\w+)(?: AS \w+)?(?: USING .*)?")
_ALIAS = re.compile(r"\b(?:FROM|JOIN)\s+(\w+)\s+(?:AS\s+)?([a-z]\w{0,2})\b(?!\s*\.)")


def statements() -> Iterator[tuple[str, str]]:
    """Yield every reading statement that stands in a module of the store, by its name."""
    for module in pkgutil.walk_packages(obitus.store.__path__, "obitus.store."):
        for name, value in vars(importlib.import_module(module.name)).items():
            for place, text in _texts(f"{module.name}.{name}", value):
                if re.match(r"\s*(?:SELECT|WITH|UPDATE|DELETE)\b", text) and "moved" not in text:
                    yield place, text


def composed() -> Iterator[tuple[str, str]]:
    """Yield the statements that are put together of constants: the lists of issues."""
    narrowings = [
        Window(3, 9),
        Window(3, 90 * DAY_MS, None, "production", "3.1.0"),
        Window(DAY_MS, 40 * DAY_MS, None, "production"),
    ]
    for number, window in enumerate(narrowings):
        for issue_id in (None, 5):
            inside = counted_within(window, 0, 60 * DAY_MS, issue_id=issue_id).sql
            yield f"counted {number} {issue_id}", inside
            yield f"issue inside {number} {issue_id}", issues._INSIDE.format(parts=inside)
        listed = issues._COUNTED.format(parts=inside)
        asked = issues._COUNTED_BY_FAILURES.format(narrowed=window.narrowed("f."), asked="f.user_id = 'x'")
        for column in issues._SORTED_BY.values():
            page = issues._BEHIND.format(column=column) + issues._PAGE.format(column=column)
            for beginning in (listed, asked):
                yield (
                    f"issues {number} {column}",
                    beginning + issues._LISTED + issues._OF_APP + issues._OF_STATES + page,
                )
        yield f"issues in all {number}", listed + issues._SUMMED
        yield (
            f"failures {number}",
            issues._FAILURES_OF + window.narrowed("f.") + issues._FAILURES_BEHIND + issues._FAILURES_PAGE,
        )
        for unit_ms, counts in windows._OVER_TIME.items():
            yield f"over time {number} {unit_ms}", counts + window.narrowed() + windows._BY_UNIT
    every = "".join(now.NARROWED.values())
    for narrowed in ("", every):
        yield f"runs by slot {narrowed}", now._RUNS_BY_SLOT.format(narrowed=narrowed)
        yield f"runs alike {narrowed}", now._RUNS_ALIKE.format(narrowed=narrowed)
        yield f"failures by slot {narrowed}", now._FAILURES_BY_SLOT.format(narrowed=narrowed)
        of_issues = narrowed.replace(now.NARROWED["app"], now._OF_APP)
        yield f"failures by hour {narrowed}", now._FAILURES_BY_HOUR.format(narrowed=of_issues)
        yield f"warnings {narrowed}", now._WARNINGS.format(narrowed=narrowed)
        yield f"calls {narrowed}", calls._CALLS.format(narrowed=narrowed)
        yield f"whole {narrowed}", calls._WHOLE.format(narrowed=narrowed)
        of_links = narrowed.replace(now.NARROWED["app"], calls._OF_EITHER).replace(now.NARROWED["release"], "")
        yield f"linked {narrowed}", calls._LINKED.format(narrowed=of_links)


def _texts(name: str, value: Any) -> Iterator[tuple[str, str]]:
    if isinstance(value, str):
        yield name, value
    elif isinstance(value, tuple | list):
        for place, inner in enumerate(value):
            yield from _texts(f"{name}[{place}]", inner)
    elif isinstance(value, dict):
        for key, inner in value.items():
            yield from _texts(f"{name}[{key}]", inner)


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> Iterator[list[sqlite3.Connection]]:
    folder: Path = tmp_path_factory.mktemp("plans")
    opened = [open_for_writing(folder / "obitus.sqlite3"), open_day(folder / "day.sqlite3")]
    yield opened
    for connection in opened:
        connection.close()


def plan(connection: sqlite3.Connection, text: str) -> list[str] | None:
    """Return the plan of a statement, None where it is for the other kind of file, or no whole statement."""
    named = dict.fromkeys(re.findall(r":(\w+)", text))
    numbered = [int(number) for number in re.findall(r"\?(\d+)", text)]
    values: Any = named or (None,) * (max(numbered) if numbered else text.count("?"))
    try:
        return [row["detail"] for row in connection.execute(f"EXPLAIN QUERY PLAN {text}", values)]
    except sqlite3.Error:
        return None


def test_no_page_scans_what_grows(files: list[sqlite3.Connection]) -> None:
    """Each statement finds what it wants by an index, or says why it need not."""
    planned, bad, used = 0, [], set()
    for place, text in (*statements(), *composed()):
        plans = [found for connection in files if (found := plan(connection, text)) is not None]
        planned += bool(plans)
        tables = {alias: table for table, alias in _ALIAS.findall(text)}
        for details in plans:
            print(place, *details, sep="\n    ")
            for detail in details:
                found = _SCAN.match(detail)
                table = tables.get(found[1], found[1]) if found else ""
                if table not in GROWS or " VIRTUAL TABLE " in detail:
                    continue
                reason = next((name for name in MAY if place.startswith(name)), None)
                if reason is None:
                    bad.append(f"{place}: {detail}")
                else:
                    used.add(reason)
    assert planned > 150 and all(plan(files[0], text) for _, text in composed())
    assert not bad, "\n".join(bad)
    assert used == set(MAY), f"without need: {set(MAY) - used}"
