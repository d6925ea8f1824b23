"""From the store's rows to the API's answers."""

from __future__ import annotations

import json
import math
import uuid
from collections.abc import Iterable

from obitus.core.clock import to_text
from obitus.core.headline import Headline
from obitus.core.parking import so_far
from obitus.core.priority import LEVELS, Priority, weigh
from obitus.core.quiet.failing import collects_said
from obitus.core.releases import DatedRelease, in_order
from obitus.core.statistics import Interval
from obitus.core.wording import ago, count_of
from obitus.service.api import answers, issue_answers, release_answers
from obitus.service.clock import Clock
from obitus.store import issues as store
from obitus.store import parking, priorities, quiet, rates
from obitus.store import releases as release_store
from obitus.store.errors import UNREADABLE
from obitus.store.issue_users import MOST_USERS
from obitus.store.records import Records
from obitus.store.releases import NOT_COME_MS
from obitus.store.rows.apps import AppRelease
from obitus.store.rows.issues import Failure, Issue, IssueName
from obitus.store.rows.rates import RateRegressionRow
from obitus.store.windows import Window, failures_over_time, slices_of

MOST_RELEASES = 200


def title_of(row: Issue | IssueName) -> str:
    """Return the title of an issue: type and place."""
    return Headline(row.type, row.cause, row.place).title


def window_answer(window: Window) -> answers.WindowAnswer:
    """Return the window for the API."""
    return answers.WindowAnswer(start=to_text(window.from_ms), end=to_text(window.to_ms))


def issue_rows(
    records: Records, rows: list[Issue], window: Window, now_ms: int, *, by_priority: bool = False
) -> list[issue_answers.IssueRow]:
    """Return issues of a list, with their failures over the window; ``by_priority`` sorts by priority."""
    found, none = _over_time(records, [row.id for row in rows], window)
    weighed = _weighed(records, rows, now_ms)
    parked = _parked(records, rows, now_ms)
    if by_priority:
        rows = sorted(rows, key=lambda row: (LEVELS.index(weighed[row.id].level), -weighed[row.id].score))
    return [
        issue_answers.IssueRow(
            **_issue_fields(row, row.failures, found.get(row.id, none), weighed[row.id], parked.get(row.id))
        )
        for row in rows
    ]


def _weighed(records: Records, rows: list[Issue], now_ms: int) -> dict[int, Priority]:
    facts = priorities.facts_of(records.reader, rows, now_ms)
    return {row.id: weigh(facts[row.id], now_ms) for row in rows}


def _parked(records: Records, rows: list[Issue], now_ms: int) -> dict[int, issue_answers.ParkedAnswer]:
    """Return the conditions of parked issues."""
    numbers = [row.id for row in rows if row.state == "parked"]
    known = parking.parkings(records.reader, numbers) if numbers else {}
    parked = {number: issue_answers.ParkedAnswer(said="", so_far="") for number in numbers}
    for number, row in known.items():
        until = parking.until_of(row)
        since = parking.since(records.reader, row, now_ms)
        parked[number] = issue_answers.ParkedAnswer(said=until.said, so_far=so_far(until, since))
    return parked


def issue_answer(records: Records, clock: Clock, number: int, window: Window) -> issue_answers.IssueAnswer:
    """Return one issue, whole; raises NotThere."""
    row = store.issue(records.reader, number)
    values, none = _over_time(records, [number], window)
    return issue_answers.IssueAnswer(
        **_issue_fields(
            row,
            store.failures_inside(records.reader, number, window),
            values.get(number, none),
            _weighed(records, [row], clock.now_ms())[number],
            _parked(records, [row], clock.now_ms()).get(number),
        ),
        what_failed=_what_failed(row, clock.now_ms()),
        users=row.users,
        why=[
            issue_answers.FingerprintAnswer(
                fingerprint=fingerprint.fingerprint, joined=fingerprint.joined, parts=json.loads(fingerprint.parts)
            )
            for fingerprint in store.fingerprints(records.reader, number)
        ],
        collects=_collects(records, number),
        releases=_releases(records, row),
        history=[
            issue_answers.HistoryEntry(
                time=to_text(entry.time_ms),
                person=entry.person,
                from_state=entry.from_state,
                to_state=entry.to_state,
                reason=entry.reason,
                failure=_id(entry.failure_id),
            )
            for entry in store.history(records.reader, number)
        ],
        latest=failure_answer(records, store.failure_with_seq(records.reader, row.last_seq)),
        first=failure_answer(records, store.failure_with_seq(records.reader, row.first_seq)),
    )


def _collects(records: Records, number: int) -> str | None:
    row = quiet.collects(records.reader, number)
    return None if row is None else collects_said(row.kind, row.subject)


def failure_rows(rows: Iterable[Failure]) -> list[issue_answers.FailureRow]:
    """Return failures of a list."""
    return [issue_answers.FailureRow(**_failure_fields(row)) for row in rows]


def failure_answer(records: Records, row: Failure) -> issue_answers.FailureAnswer:
    """Return one failure with its evidence, or with the reason why that is no longer kept."""
    earlier, later = store.neighbours(records.reader, row)
    report, gone = None, None
    try:
        report = json.loads(records.evidence.read(row.seq))
        for link in report.get("exceptions") or ():
            for frame in link.get("frames") or ():
                # As large as all the rest, and not for reading: only reproducing a failure needs it.
                frame.pop("call", None)
    except UNREADABLE as error:
        gone = str(error)
    return issue_answers.FailureAnswer(
        **_failure_fields(row), earlier=_id(earlier), later=_id(later), report=report, gone=gone
    )


def newest_first(rows: Iterable[AppRelease]) -> list[str]:
    """Return the versions of releases, newest first, without the nameless one; of thousands, the newest."""
    ranks: dict[str, int] = {}
    for row in rows:
        ranks[row.version] = min(row.first_ms, ranks.get(row.version, row.first_ms))
    ordered = in_order(DatedRelease(version, first_ms) for version, first_ms in ranks.items() if version)
    return [release.version for release in reversed(ordered)][:MOST_RELEASES]


def interval(bounds: Interval | None) -> release_answers.IntervalAnswer | None:
    """Return a value with its bounds for the API."""
    if bounds is None or not math.isfinite(bounds.value):
        return None
    return release_answers.IntervalAnswer(
        value=bounds.value, low=bounds.low, high=bounds.high if math.isfinite(bounds.high) else None
    )


def time_text(time_ms: int | None) -> str | None:
    """Return a time as text, if there is one."""
    return None if time_ms is None or time_ms >= NOT_COME_MS else to_text(time_ms)


def issue_ref(row: IssueName) -> release_answers.IssueRef:
    """Return an issue with its title."""
    return release_answers.IssueRef(number=row.id, title=title_of(row), state=row.state)


def rate_regression_answer(row: RateRegressionRow, names: dict[int, IssueName]) -> release_answers.RateRegression:
    """Return a rate regression."""
    usual = row.before_failures / row.before_runs * row.runs
    return release_answers.RateRegression(
        release=row.version,
        environment=row.environment,
        issue=issue_ref(names[row.issue_id]) if row.issue_id in names else None,
        entry_point=row.entry_point or None,
        reason=row.reason,
        factor=row.failures / usual if usual else 0.0,
        chance=row.chance,
        sure=bool(row.sure),
        found=to_text(row.found_ms),
    )


def _issue_fields(
    row: Issue, failures: int, over_time: list[int], priority: Priority, parked: issue_answers.ParkedAnswer | None
) -> dict[str, object]:
    return {
        "priority": issue_answers.PriorityAnswer(level=priority.level, reason=priority.reason, said=priority.said),
        "number": row.id,
        "app": row.app,
        "title": title_of(row),
        "type": row.type,
        "cause": row.cause,
        "place": row.place,
        "message": row.message,
        "entry_point": row.entry_point,
        "state": row.state,
        "state_since": to_text(row.state_ms),
        "settled_in": row.settled_in,
        "first_seen": to_text(row.first_ms),
        "last_seen": to_text(row.last_ms),
        "began_in": row.began_in,
        "latest_in": row.latest_in,
        "failures": failures,
        "failures_in_all": row.failures_in_all,
        "from_older_releases": row.from_older_releases,
        "merged_into": row.merged_into,
        "holder": row.holder,
        "waits_for": row.waits_for,
        "parked": parked,
        "reopened": row.reopened,
        "over_time": over_time,
    }


def _failure_fields(row: Failure) -> dict[str, object]:
    return {
        "id": _id(row.id),
        "issue": row.issue_id,
        "app": row.app,
        "environment": row.environment,
        "release": row.release,
        "time": to_text(row.time_ms),
        "received": to_text(row.received_ms),
        "severity": row.severity,
        "handled": bool(row.handled),
        "message": row.message,
        "entry_point": row.entry_point,
        "user": row.user_id,
        "trace_id": row.trace_id.hex() if row.trace_id else None,
        "verdict": row.verdict,
        "represents": row.stands_for,
    }


def _over_time(records: Records, numbers: list[int], window: Window) -> tuple[dict[int, list[int]], list[int]]:
    """Return failures by slice of the window for issues with any, and the empty slices for the others."""
    return failures_over_time(records.reader, json.dumps(numbers), window), [0] * slices_of(window).count


def _releases(records: Records, row: Issue) -> list[issue_answers.ReleaseCount]:
    releases = release_store.order(records.reader, row.app_id).releases
    counts: dict[str, dict[str, int]] = {}
    for rate in rates.issue_by_release(records.reader, row.id):
        counts.setdefault(rate.version, {})[rate.environment] = rate.failures
    newest = {release.version for release in releases[-MOST_RELEASES:]}
    return [
        issue_answers.ReleaseCount(
            release=release.version,
            first_report=time_text(release.first_ms),
            failures=sum(counts.get(release.version, {}).values()),
            environments=counts.get(release.version, {}),
        )
        for release in releases
        if release.version in counts or release.version in newest
    ]


def _what_failed(row: Issue, now_ms: int) -> str:
    where = f" in {row.place}" if row.place else ""
    behind = f", caused by {row.cause}," if row.cause else ""
    on = f" on {row.entry_point}" if row.entry_point else ""
    many = "at least " if row.users >= MOST_USERS else ""
    whom = f" for {many}{count_of(row.users, 'user')}" if row.users else ""
    since = f"since release {row.began_in}" if row.began_in else "since"
    first = ago(row.first_ms, now_ms)
    last = ago(row.last_ms, now_ms)
    return (
        f"{row.type}{behind} was raised{where}{on}: {count_of(row.failures_in_all, 'time')}{whom}, "
        f"{since} {'(' + first + ')' if row.began_in else first}, last {last}.{_only_counted(row)}"
    )


def _only_counted(row: Issue) -> str:
    if not row.only_counted:
        return ""
    return (
        f" It failed so often at once that {count_of(row.only_counted, 'failure')} of these "
        f"{'was' if row.only_counted == 1 else 'were'} counted and not kept whole: others like them represent them."
    )


def _id(raw: bytes | None) -> str | None:
    return str(uuid.UUID(bytes=raw)) if raw is not None else None
