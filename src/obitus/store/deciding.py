"""Decisions of people about issues, one or many at once, and their undo. Runs on the writer. For each issue a
decision is made whole, or not at all. It stores the issue's earlier state, which can be restored as long as nobody
has changed the issue since.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Final

from obitus.core.clock import DAY_MS, to_text
from obitus.core.lifecycle import Decision, Settling, State, state_after
from obitus.core.parking import Until
from obitus.core.priority import Level
from obitus.core.wording import count_of
from obitus.store import events, parking, team
from obitus.store.database import Reader
from obitus.store.errors import ChangedMeanwhile, NotThere, StoreError
from obitus.store.issues import SETTLINGS, add_history, note

KEPT_MS: Final = 7 * DAY_MS
"""How long a decision can be undone."""
MOST_PRUNED: Final = 200

_NOW: Final = """
SELECT state, state_ms, settled_in, settled_ms, holder_id, waits_for, priority, priority_by, reopened, failures, merged_into, app_id,
  (SELECT name FROM people WHERE people.id = holder_id) AS holder FROM issues WHERE id = ?"""
_PARKING: Final = """
SELECT time_ms, until_ms, failures, an_hour, people, another, newest, failed, users_then FROM parkings WHERE issue_id = ?"""
_LATEST: Final = """
SELECT h.id, h.reason, h.time_ms, people.name AS person FROM issue_history h LEFT JOIN people ON people.id = h.person_id
WHERE h.issue_id = ? ORDER BY h.id DESC LIMIT 1"""
_DECIDE: Final = """
UPDATE issues SET state = :state, state_ms = :now_ms, reopened = '',
  settled_in = CASE WHEN :state = 'settled' THEN :release ELSE settled_in END,
  settled_ms = CASE WHEN :state = 'settled' THEN :now_ms ELSE settled_ms END
WHERE id = :id"""
_UNSETTLE: Final = "DELETE FROM settlings WHERE issue_id = :id AND (:environment = '' OR environment = :environment)"
_SETTLE: Final = """
INSERT INTO settlings (issue_id, environment, how, release, after, time_ms)
VALUES (:id, :environment, :how, :release, :after, :time_ms)"""
_HAND_OVER: Final = "UPDATE issues SET holder_id = :holder, waits_for = :waits_for WHERE id = :id"
_TAKE_UP: Final = "UPDATE issues SET holder_id = :person_id WHERE id = :id AND holder_id IS NULL"
_WAITS_NO_MORE: Final = "UPDATE issues SET waits_for = '' WHERE id = :id"
_WEIGH: Final = "UPDATE issues SET priority = :level, priority_by = :by WHERE id = :id"
_BEGIN: Final = "INSERT INTO decisions (person_id, time_ms, said) VALUES (?, ?, '') RETURNING id"
_SAID: Final = "UPDATE decisions SET said = ? WHERE id = ?"
_FORGET: Final = "DELETE FROM decisions WHERE id = ?"
_KEEP: Final = "INSERT INTO decided_issues (decision_id, issue_id, history_id, before) VALUES (?, ?, ?, ?)"
_DECISION: Final = """
SELECT d.said, people.name AS person FROM decisions d JOIN people ON people.id = d.person_id WHERE d.id = ?"""
_DECIDED: Final = "SELECT issue_id, history_id, before FROM decided_issues WHERE decision_id = ? ORDER BY issue_id"
_DECIDED_ISSUES: Final = "SELECT issue_id FROM decided_issues WHERE decision_id = ?"
_DONE_WITH: Final = "DELETE FROM decided_issues WHERE decision_id = ? AND issue_id = ?"
_LATEST_OF_PERSON: Final = """
SELECT id FROM decisions WHERE person_id = ? AND undone_ms IS NULL AND time_ms >= ?
  AND EXISTS (SELECT 1 FROM decided_issues WHERE decision_id = decisions.id) ORDER BY id DESC LIMIT 1"""
_UNDONE: Final = "UPDATE decisions SET undone_ms = ?, undone_by = ? WHERE id = ?"
_RESTORE: Final = """
UPDATE issues SET state = :state, state_ms = :state_ms, settled_in = :settled_in, settled_ms = :settled_ms,
  holder_id = (SELECT id FROM people WHERE id = :holder_id AND removed_ms IS NULL), waits_for = :waits_for,
  priority = :priority, priority_by = :priority_by, reopened = :reopened WHERE id = :id"""
_NO_SETTLINGS: Final = "DELETE FROM settlings WHERE issue_id = ?"
_RESTORE_PARKING: Final = """
INSERT INTO parkings (issue_id, time_ms, until_ms, failures, an_hour, people, another, newest, failed, users_then)
VALUES (:id, :time_ms, :until_ms, :failures, :an_hour, :people, :another, :newest, :failed, :users_then)"""
_OLD: Final = "SELECT id FROM decisions WHERE time_ms < ? ORDER BY time_ms LIMIT ?"
_NO_OLD_ISSUES: Final = "DELETE FROM decided_issues WHERE decision_id IN (SELECT value FROM json_each(?))"
_NO_OLD: Final = "DELETE FROM decisions WHERE id IN (SELECT value FROM json_each(?))"

Person = tuple[int, str]
"""Number and name."""
By = tuple[int | None, str]
"""Number and name, or no number and a text that says who or what decides."""


@dataclass(frozen=True, slots=True)
class ExpectedState:
    """The state of an issue as the deciding person saw it. None is not compared."""

    state: State | None = None
    since_ms: int | None = None
    """Since when it was in that state."""
    holder: str | None = None
    """Who had it, '' for nobody."""


@dataclass(frozen=True, slots=True)
class DecisionOrder:
    """A decision about an issue: one of these."""

    state: Decision | None = None
    settling: Settling | None = None
    until: Until = field(default_factory=Until)
    """For a parked one."""
    newest: str | None = None
    """For a parked one: the newest release known."""
    to: str | None = None
    """Who gets it, '' for nobody."""
    waits_for: str | None = None
    level: Level | None = None
    weighs: bool = False
    """Whether ``level`` is set; with None it is computed again."""


@dataclass(frozen=True, slots=True)
class Decided:
    """The result of a decision: its number for undoing it (None where nothing was done), and what was not done and why."""

    number: int | None
    done: list[int]
    left: list[tuple[int, StoreError]]


def decide(
    connection: sqlite3.Connection, orders: Sequence[tuple[int, ExpectedState, DecisionOrder]], by: Person, now_ms: int
) -> Decided:
    """Make a decision about some issues, and add it to the history of each. An issue that does not exist, or is not
    as it was seen, is left as it is; the others are changed.
    """
    number = int(connection.execute(_BEGIN, (by[0], now_ms)).fetchone()[0])
    decided_issues: list[int] = []
    left_alone: list[tuple[int, StoreError]] = []
    words = ""
    for issue_id, seen, order in orders:
        try:
            before = _snapshot(connection, issue_id)
            _check(connection, issue_id, before, seen)
            sentence = _carry_out(connection, issue_id, before, order, by, now_ms)
        except StoreError as error:
            left_alone.append((issue_id, error))
            continue
        decided_issues.append(issue_id)
        if sentence:
            words = sentence
            latest = connection.execute(_LATEST, (issue_id,)).fetchone()
            connection.execute(_KEEP, (number, issue_id, latest["id"], json.dumps(before, ensure_ascii=False)))
    if not words:
        connection.execute(_FORGET, (number,))
        return Decided(None, decided_issues, left_alone)
    connection.execute(_SAID, (words, number))
    return Decided(number, decided_issues, left_alone)


def decide_by_link(
    connection: sqlite3.Connection, issue_id: int, order: DecisionOrder, by: Person | None, said_by: str, now_ms: int
) -> str:
    """Make the decision of a link in a message; return what was done, in words. ``by`` is the person of the
    message's channel. For a team's channel the person is not known: the history names the link.
    """
    if by is not None:
        decided = decide(connection, [(issue_id, ExpectedState(), order)], by, now_ms)
        if decided.left:
            raise decided.left[0][1]
        return f"{by[1]} decided on it by a link."
    assert order.state is not None
    before = _snapshot(connection, issue_id)
    sentence = _set_state(connection, issue_id, before["state"], order, order.state, (None, said_by), now_ms)
    return f"{said_by} {sentence}."


def _snapshot(connection: sqlite3.Connection, issue_id: int) -> dict[str, Any]:
    row = connection.execute(_NOW, (issue_id,)).fetchone()
    if row is None:
        raise NotThere(f"there is no issue {issue_id}")
    parked = connection.execute(_PARKING, (issue_id,)).fetchone()
    settlings = [dict(one) for one in connection.execute(SETTLINGS, (issue_id,)).fetchall()]
    return dict(row) | {"settlings": settlings, "parking": dict(parked) if parked is not None else None}


def _check(connection: sqlite3.Connection, issue_id: int, there: dict[str, Any], seen: ExpectedState) -> None:
    """Raise ChangedMeanwhile where an issue is not as it was seen."""
    latest = connection.execute(_LATEST, (issue_id,)).fetchone()
    last = latest["reason"] if latest is not None else ""
    now = {
        "state": there["state"],
        "state_since": to_text(there["state_ms"]),
        "holder": there["holder"],
        "waits_for": there["waits_for"],
        "reason": last,
    }
    if seen.state is not None and seen.state != there["state"]:
        raise ChangedMeanwhile(
            f"Issue {issue_id} was {seen.state} when you looked, and is {there['state']} by now. {last} "
            "Nothing was changed: look again, and decide.",
            now,
        )
    if seen.since_ms is not None and seen.since_ms != there["state_ms"]:
        raise ChangedMeanwhile(
            f"Somebody decided on issue {issue_id} after you looked. {last} Nothing was changed: look again, and decide.",
            now,
        )
    if seen.holder is not None and seen.holder != (there["holder"] or ""):
        raise ChangedMeanwhile(
            f"Issue {issue_id} is with {there['holder'] or 'nobody'} by now. Nothing was changed: look again, and decide.",
            now,
        )


def _carry_out(
    connection: sqlite3.Connection, issue_id: int, before: dict[str, Any], order: DecisionOrder, by: Person, now_ms: int
) -> str:
    """Change one issue; return what was done, in words, '' for nothing."""
    if order.state is not None:
        return _set_state(connection, issue_id, before["state"], order, order.state, by, now_ms)
    if order.weighs:
        level = order.level
        connection.execute(_WEIGH, {"id": issue_id, "level": level, "by": by[0] if level is not None else None})
        remark = f"said that its priority is {level}" if level is not None else "left its priority to be computed"
        note(connection, issue_id, by[0], f"{by[1]} {remark}.", now_ms)
        return remark
    return _hand_over(connection, issue_id, before, order, by, now_ms)


def _set_state(
    connection: sqlite3.Connection,
    issue_id: int,
    before: State,
    order: DecisionOrder,
    decision: Decision,
    by: By,
    now_ms: int,
) -> str:
    """Change the state of an issue. A settling for everywhere replaces all earlier ones; a settling in one environment that one's."""
    state, settling = state_after(decision), order.settling
    remark = {
        "accept": "accepted it",
        "settle": f"settled it as fixed {settling.said if settling else ''}",
        "park": f"parked it {order.until.said}".rstrip(),
    }[decision]
    values = {
        "id": issue_id,
        "state": state,
        "now_ms": now_ms,
        "environment": settling.environment if settling else "",
        "how": settling.how if settling else None,
        "release": settling.release if settling else None,
        "after": settling.after if settling else None,
    }
    connection.execute(_DECIDE, values)
    if decision == "accept":
        # Whoever accepts an unassigned issue, has it.
        connection.execute(_TAKE_UP, {"id": issue_id, "person_id": by[0]})
    else:
        connection.execute(_WAITS_NO_MORE, {"id": issue_id})
    connection.execute(_UNSETTLE, values)
    if settling is not None:
        connection.execute(_SETTLE, values | {"time_ms": now_ms})
    parking.park(connection, issue_id, order.until, order.newest, now_ms)
    add_history(connection, issue_id, (before, state), f"{by[1]} {remark}.", now_ms, person_id=by[0])
    events.add(connection, "issue-decided", now_ms, issue=issue_id, state=state)
    return remark


def _hand_over(
    connection: sqlite3.Connection, issue_id: int, before: dict[str, Any], order: DecisionOrder, by: Person, now_ms: int
) -> str:
    """Give an issue to a person, or to nobody, and set what it waits for; raises NotThere for a person who may not have it."""
    had, after = before["holder"] or "", before["holder"] or "" if order.to is None else order.to
    waits_for = before["waits_for"] if order.waits_for is None else order.waits_for
    if (had, before["waits_for"]) == (after, waits_for):
        return ""
    holder = team.may_have(connection, after, before["app_id"]) if after else None
    connection.execute(_HAND_OVER, {"id": issue_id, "holder": holder, "waits_for": waits_for})
    remarks = []
    if after != had:
        handed = f"handed it to {after}" if after else f"unassigned it from {had}"
        remarks.append("took it" if after == by[1] else handed)
    if waits_for != before["waits_for"]:
        remarks.append(f"said that it waits for {waits_for}" if waits_for else "said that it waits no more")
    note(connection, issue_id, by[0], f"{by[1]} {' and '.join(remarks)}.", now_ms)
    return " and ".join(remarks)


def latest_of(reader: Reader, person_id: int, now_ms: int) -> int | None:
    """Return the number of a person's latest decision that was not undone."""
    ids = reader.column(int, _LATEST_OF_PERSON, (person_id, now_ms - KEPT_MS))
    return ids[0] if ids else None


def issues_of(reader: Reader, number: int) -> set[int]:
    """Return the issues that a decision changed, limited to those that the reader sees."""
    return set(reader.column(int, _DECIDED_ISSUES, (number,)))


def take_back(
    connection: sqlite3.Connection, number: int, issue_ids: set[int], by: Person, now_ms: int
) -> tuple[str, Decided]:
    """Undo a decision; return what it had done, and the result for each issue. Only issues in ``issue_ids`` are
    changed. One that was changed since is left as it is. Raises NotThere.
    """
    row = connection.execute(_DECISION, (number,)).fetchone()
    if row is None:
        raise NotThere(f"there is no decision {number}, or it is too old to be taken back")
    done: list[int] = []
    left_alone: list[tuple[int, StoreError]] = []
    whose = "" if row["person"] == by[1] else f"{row['person']}'s decision, who "
    for decided_row in connection.execute(_DECIDED, (number,)).fetchall():
        issue_id = int(decided_row["issue_id"])
        if issue_id not in issue_ids:
            continue
        # Undone or not, it is over: an issue that was changed since can never be restored.
        connection.execute(_DONE_WITH, (number, issue_id))
        latest = connection.execute(_LATEST, (issue_id,)).fetchone()
        if latest is None or latest["id"] != decided_row["history_id"]:
            reason = f"issue {issue_id} was changed since: {latest['reason'] if latest is not None else ''}"
            left_alone.append((issue_id, ChangedMeanwhile(reason)))
            continue
        _restore(
            connection,
            issue_id,
            json.loads(decided_row["before"]),
            f"{by[1]} took back: {whose}{row['said']}.",
            by,
            now_ms,
        )
        done.append(issue_id)
    # A person who does not see all of its issues undoes a part of it.
    if connection.execute(_DECIDED_ISSUES, (number,)).fetchone() is None:
        connection.execute(_UNDONE, (now_ms, by[0], number))
    return row["said"], Decided(number, done, left_alone)


def _restore(
    connection: sqlite3.Connection, issue_id: int, before: dict[str, Any], reason: str, by: Person, now_ms: int
) -> None:
    now = connection.execute(_NOW, (issue_id,)).fetchone()
    connection.execute(_RESTORE, {key: before[key] for key in _RESTORED} | {"id": issue_id})
    connection.execute(_NO_SETTLINGS, (issue_id,))
    for settling in before["settlings"]:
        connection.execute(_SETTLE, settling | {"id": issue_id})
    parking.parked_no_more(connection, issue_id)
    if before["parking"] is not None:
        # Failures meanwhile count, as if it had been parked all along.
        meanwhile = max(0, now["failures"] - before["failures"])
        kept = before["parking"] | {"id": issue_id, "failed": before["parking"]["failed"] + meanwhile}
        connection.execute(_RESTORE_PARKING, kept)
    add_history(connection, issue_id, (now["state"], before["state"]), reason, now_ms, person_id=by[0])
    events.add(connection, "issue-decided", now_ms, issue=issue_id, state=before["state"])


_RESTORED: Final = (
    "state", "state_ms", "settled_in", "settled_ms", "holder_id", "waits_for", "priority", "priority_by", "reopened",
)  # fmt: skip


def prune(connection: sqlite3.Connection, now_ms: int) -> int:
    """Forget decisions that are too old to be undone; return how many: some hundreds at a time."""
    ids = connection.execute(_OLD, (now_ms - KEPT_MS, MOST_PRUNED)).fetchall()
    old = json.dumps([row[0] for row in ids])
    connection.execute(_NO_OLD_ISSUES, (old,))
    connection.execute(_NO_OLD, (old,))
    return len(ids)


def many_said(said: str, count: int) -> str:
    """Write a decision with its issues: ``accepted it`` on 3 becomes ``accepted it, 3 issues``."""
    return f"{said}, {count_of(count, 'issue')}"
