"""``/metrics``: metrics of the service, and failures and runs by app on request (OpenMetrics)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Final

from fastapi import Depends, Query
from fastapi.responses import Response

from obitus.core.clock import DAY_MS
from obitus.core.metrics import CONTENT_TYPE, Family, text_of
from obitus.core.version import VERSION
from obitus.service.alerting.window_rules import TheWindows, Windows
from obitus.service.dependencies import TheClock, TheLive, TheRecords
from obitus.service.problems import described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.store import apps, measured, passing
from obitus.store.alerts import channels, firings
from obitus.store.records import Records

router = Router(
    tags=["service"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "bad-field", "store-broken"),
)

WEEK_MS: Final = 7 * DAY_MS


@router.get(
    "/metrics",
    summary="Metrics of the service",
    response_class=Response,
    responses={200: {"content": {CONTENT_TYPE: {"schema": {"type": "string"}}}, "description": "OpenMetrics text."}},
)
def metrics(
    records: TheRecords,
    clock: TheClock,
    live: TheLive,
    windows: TheWindows,
    person: SignedIn,
    by_app: Annotated[
        bool, Query(description="Failures and runs of today (UTC) by app too; up to 500 series of each.")
    ] = False,
) -> Response:
    """Return metrics for a monitoring system, which needs a personal token that may read."""
    now_ms = clock.now_ms()
    found = [
        *_of_service(records, live.listeners, now_ms),
        *_of_rules(windows),
        *(_of_apps(records, now_ms) if by_app else ()),
    ]
    return Response(text_of(found), media_type=CONTENT_TYPE)


def _of_service(records: Records, listeners: int, now_ms: int) -> Iterator[Family]:
    yield Family("obitus", "info", "The version that runs.", values=[({"version": VERSION}, 1)])
    yield Family(
        "obitus_writer_waiting",
        "gauge",
        "Pieces of work that wait for their commit.",
        values=[({}, records.writer.waiting)],
    )
    healthy = records.writer.alive and records.writer.trouble is None
    yield Family("obitus_ready", "gauge", "1 while reports are taken.", values=[({}, int(healthy))])
    yield Family("obitus_listeners", "gauge", "Consoles that listen.", values=[({}, listeners)])
    stored = Family("obitus_reports", "counter", "Reports that are kept, of all days.")
    stored.add(sum(day.reports for day in records.days.known()))
    yield stored
    last = Family("obitus_last_report_seconds", "gauge", "When each app reported last, Unix time.", "seconds")
    for app in apps.apps(records.reader)[: measured.MOST_LABELS]:
        if app.last_report_ms is not None:
            last.add(app.last_report_ms / 1000, app=app.name)
    yield last
    yield from _of_messages(records, now_ms)
    lag = Family("obitus_target_lag_reports", "gauge", "Reports that a target was not offered yet.", "reports")
    passed = Family("obitus_target_records", "counter", "Records that a target took, refused, or lost.")
    for row in passing.targets(records.reader):
        lag.add(passing.lag(records.reader, records.days, row.id), target=row.name)
        for what, count in (("passed", row.passed), ("refused", row.refused), ("lost", row.lost)):
            passed.add(count, target=row.name, what=what)
    yield lag
    yield passed


def _of_rules(windows: Windows) -> Iterator[Family]:
    spent = Family("obitus_alert_rules_cpu_seconds", "counter", "Processor time of rules over windows.", "seconds")
    spent.add(windows.spent_s)
    yield spent
    yield Family("obitus_alert_rule_looks", "counter", "Looks at rules over windows.", values=[({}, windows.looks)])


def _of_messages(records: Records, now_ms: int) -> Iterator[Family]:
    names = {row.id: row.name for row in channels.channels(records.reader)}
    waiting = Family("obitus_messages_waiting", "gauge", "Messages that a channel has not taken yet.")
    given_up = Family("obitus_messages_given_up", "gauge", "Messages of the last seven days that did not arrive.")
    for number, state in channels.states(records.reader, now_ms - WEEK_MS).items():
        waiting.add(state.waiting, channel=names.get(number, ""))
        given_up.add(state.given_up, channel=names.get(number, ""))
    yield waiting
    yield given_up
    yield Family(
        "obitus_alerts_open",
        "gauge",
        "Alerts that are not over.",
        values=[({}, len(firings.open_ones(records.reader)))],
    )


def _of_apps(records: Records, now_ms: int) -> Iterator[Family]:
    since_ms = now_ms // DAY_MS * DAY_MS
    failed = Family("obitus_failures", "counter", "Failures of today (UTC).")
    for row in measured.failures(records.reader, since_ms):
        failed.add(row.n, app=row.app, environment=row.environment)
    yield failed
    ran = Family("obitus_runs", "counter", "Runs of today (UTC) by how they ended.")
    for measured_runs in measured.runs(records.reader, since_ms):
        ran.add(
            measured_runs.n, app=measured_runs.app, environment=measured_runs.environment, outcome=measured_runs.outcome
        )
    yield ran
    issues = Family("obitus_issues", "gauge", "Issues by state.")
    for of_app in measured.issues(records.reader):
        issues.add(of_app.n, app=of_app.app, state=of_app.state)
    yield issues
