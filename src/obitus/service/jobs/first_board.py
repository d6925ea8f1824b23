"""The automatic board: made once, when there is something to show, from views that fit the reports."""

from __future__ import annotations

from functools import partial
from typing import Final

from obitus.service.panes import Pane, View, panes_text
from obitus.store import saved
from obitus.store.database import Reader
from obitus.store.records import Records

NAME: Final = "Overview"
_HEARD: Final = "SELECT COUNT(*) FROM apps WHERE last_report_ms IS NOT NULL AND removed_ms IS NULL"
_RUNS: Final = "SELECT 1 FROM run_slots LIMIT 1"
_FAILURES: Final = "SELECT 1 FROM failures LIMIT 1"


def make(records: Records, now_ms: int) -> None:
    """Make it, if there are reports and it was not made before."""
    if saved.is_first_board_made(records.reader) or not records.reader.value(int, _HEARD):
        return
    panes = panes_text(_fitting(records.reader))
    records.writer.run(partial(saved.make_first_board, name=NAME, panes=panes, now_ms=now_ms))


def _fitting(reader: Reader) -> list[Pane]:
    has_runs, has_failures = (bool(reader.column(int, sql)) for sql in (_RUNS, _FAILURES))
    panes = []
    if has_failures:
        panes.append(Pane(part="failures", width=2))
    if has_runs:
        panes += [
            Pane(part="failed", width=2),
            Pane(part="runs", width=2),
            Pane(
                title="Time that 95% of runs stay below",
                view=View(kind="runs", summary="p95 duration by entry_point over time", picture=True),
            ),
            Pane(part="points", width=4),
            Pane(part="called", width=2),
        ]
    if has_failures:
        panes += [
            Pane(title="Failures by type", view=View(kind="failures", summary="count by type")),
            Pane(part="new", width=2),
        ]
    panes.append(
        Pane(
            title="Log records by severity",
            view=View(kind="logs", summary="count by severity over time", picture=True),
        )
    )
    return panes
