"""Storing a failure: its issue is found or made, its state decided, and the failure counted, and kept whole or not."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from typing import Any, Final

from obitus.core.clock import DAY_MS
from obitus.core.days import day_and_place
from obitus.core.floods import Alike
from obitus.core.lifecycle import Happened, Judgement, State, judge_failure
from obitus.core.wording import ago
from obitus.store import events, releases
from obitus.store.database import typed
from obitus.store.grouping import COLLECTING_TYPE, MOST_ISSUES, MOST_NEW_ISSUES, WantsWhole, add_fingerprint
from obitus.store.intake.batch import Batch
from obitus.store.intake.facts import FailureFacts, Prepared, Taken
from obitus.store.issues import SETTLINGS, add_history, settling_of
from obitus.store.rows.issues import SettledBy

_ADD_ISSUE = """
INSERT INTO issues (app_id, type, cause, place, message, entry_point, state, state_ms,
                    first_ms, last_ms, first_seq, last_seq, began_in_id, failures, from_older_releases)
VALUES (:app_id, :type, :cause, :place, :message, :entry_point, 'untriaged', :received_ms,
        :time_ms, :time_ms, :seq, :seq, :release_id, 0, 0) RETURNING id"""
_SET_STATE = "UPDATE issues SET state = ?, state_ms = ? WHERE id = ?"
LATE_MS: Final = DAY_MS
"""From this delay on a report's reason says that it came late."""


def add(batch: Batch, report: Prepared, facts: FailureFacts, seq: int, release_id: int) -> Taken:
    """Store a failure; raises WantsWhole, with nothing done, for one that is to be kept whole and was not fully prepared."""
    connection = batch.connection
    values = _values(report, facts, seq, release_id)
    issue = batch.met.find(report.app_id, facts.decided, report.received_ms)
    issue_id = issue.issue_id
    if issue_id is None:
        issue_id = _add_issue(batch, report, values, issue.collecting)
    if not issue.known:
        add_fingerprint(connection, report.app_id, issue_id, facts.decided, issue)
        if batch.parked.met_elsewhere(report.app_id, issue.fingerprint, report.received_ms):
            batch.met.states_changed()
    values |= {"fingerprint": issue.fingerprint, "issue_id": issue_id}
    state = batch.met.state_of(issue_id)
    judged = _judge(connection, report, issue_id, state)
    alike = Alike(
        issue_id,
        issue.fingerprint,
        release_id,
        report.environment,
        facts.entry_point,
        facts.row.type,
        facts.severity,
        facts.handled,
        judged.from_older_release,
        day_and_place(seq)[0],
    )
    may_be_counted = issue.known and not report.is_wanted
    # One that its sender only counted takes nothing of what its issue may keep whole.
    takes = may_be_counted and report.counted is None and batch.crowd.take(issue_id, report.received_ms)
    # The failure that reopens an issue is kept whole.
    is_whole = takes or judged.changed or not may_be_counted
    representative = None if is_whole else batch.crowd.represented_by(alike, report.time_ms)
    if report.is_brief and representative is None:
        raise WantsWhole(is_wanted=takes)
    if state == "parked":
        # Earlier failures are written, and it is not: it must not count itself among those that the issue has.
        batch.met.write()
        named = seq if representative is None else representative
        release = (release_id, report.release)
        batch.parked.failed(issue_id, release, report.environment, report.time_ms, report.received_ms, named)
        batch.met.states_changed()
    failures = report.counted or 1
    batch.count(report, issue_id, release_id, facts.user_id, failures)
    if representative is not None:
        batch.crowd.add(representative, alike, report.time_ms, facts.user_id, failures)
        return Taken(already_there=False, issue_id=issue_id, only_counted=True)
    batch.crowd.kept(alike, seq, report.time_ms)
    _keep(batch, report, values, judged)
    if failures > 1:
        batch.crowd.add(seq, alike, report.time_ms, facts.user_id, failures - 1)
    if judged.changed:
        _come_back(batch, report, values, (state, judged))
    return Taken(already_there=False, issue_id=issue_id, new_issue=issue.issue_id is None, regressed=judged.changed)


def _values(report: Prepared, facts: FailureFacts, seq: int, release_id: int) -> dict[str, Any]:
    """Return the parameters of the statements; the issue and its state are added later."""
    return {
        "id": report.id,
        "app_id": report.app_id,
        "seq": seq,
        "release_id": release_id,
        "environment": report.environment,
        "time_ms": report.time_ms,
        "received_ms": report.received_ms,
        "severity": facts.severity,
        "handled": int(facts.handled),
        "type": facts.type,
        "cause": facts.cause,
        "place": facts.place,
        "message": facts.message,
        "entry_point": facts.entry_point,
        "user_id": facts.user_id,
        "trace_id": facts.trace_id,
        "verdict": "",
        "from_older_release": 0,
    }


def _add_issue(batch: Batch, report: Prepared, values: dict[str, Any], collecting: bool) -> int:
    """Make a new issue for a failure, and return its number; a collecting issue has no particular type."""
    named = {"type": COLLECTING_TYPE, "cause": "", "place": ""} if collecting else {}
    issue_id = int(batch.connection.execute(_ADD_ISSUE, values | named).fetchone()[0])
    reason = f"First seen in {report.release or 'a release without a name'}, {report.environment}."
    if collecting:
        reason = (
            f"The app brought more than {MOST_NEW_ISSUES} new issues in one minute, or has {MOST_ISSUES:,} of them; "
            "further ones are collected here. A grouping rule can group them properly."
        )
    failure = (values["seq"], values["release_id"])
    add_history(batch.connection, issue_id, (None, "untriaged"), reason, report.time_ms, failure=failure)
    events.add(batch.connection, "issue-new", report.received_ms, app_id=report.app_id, issue=issue_id)
    return issue_id


def _keep(batch: Batch, report: Prepared, values: dict[str, Any], judged: Judgement) -> None:
    """Keep a failure whole, with its effect on the issue, and update what the issue shows."""
    batch.add_rows(values["seq"], report, values["release_id"])
    if judged.changed or judged.from_older_release:
        values["verdict"] = judged.reason
        values["from_older_release"] = int(judged.from_older_release)
    batch.met.keep(values)


def _come_back(batch: Batch, report: Prepared, values: dict[str, Any], change: tuple[State, Judgement]) -> None:
    """Set the issue's state after a failure, with the reason."""
    before, judged = change
    issue_id, failure = values["issue_id"], (values["seq"], values["release_id"])
    batch.connection.execute(_SET_STATE, (judged.state, report.received_ms, issue_id))
    batch.met.states_changed()
    add_history(batch.connection, issue_id, (before, judged.state), judged.reason, report.received_ms, failure=failure)
    events.add(batch.connection, "issue-regressed", report.received_ms, app_id=report.app_id, issue=issue_id)


def _judge(connection: sqlite3.Connection, report: Prepared, issue_id: int, state: State) -> Judgement:
    if state != "settled":
        return Judgement(state, from_older_release=False, changed=False, reason="")
    settlings = [settling_of(row) for row in typed(connection.execute(SETTLINGS, (issue_id,)), SettledBy)]
    happened = Happened(report.release or None, report.environment, report.time_ms)
    judged = judge_failure(state, settlings, happened, releases.StoredOrder(connection, report.app_id))
    if judged.changed and report.received_ms - report.time_ms > LATE_MS:
        late = f" It happened {ago(report.time_ms, report.received_ms)}, and was reported only now."
        judged = replace(judged, reason=judged.reason + late)
    return judged
