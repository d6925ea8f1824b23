"""Moving failures from issue to issue, a bounded number in one commit, so that each step can be undone.

A merge, a split and a regrouping all store which failures moved where, and which issue each fingerprint led to before.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Final, Literal

from obitus.store import issue_users
from obitus.store.database import Reader, typed
from obitus.store.errors import NotThere
from obitus.store.rows.grouping import (
    BrokenOff,
    FailureOfIssue,
    FailureToRegroup,
    FingerprintToLead,
    LedFingerprint,
    Moved,
    Regrouping,
)

# So many take the writer some tens of milliseconds, the longest that reports wait meanwhile.
MOST_IN_ONE_STEP: Final = 2000
Kind = Literal["merge", "split", "regroup"]

_BEGIN = """
INSERT INTO regroupings (kind, said, person_id, created_ms, state, moved, total)
VALUES (:kind, :said, :person_id, :now_ms, 'running', 0, :total) RETURNING id"""
_PROGRESS = "UPDATE regroupings SET moved = moved + :moved WHERE id = :id"
_BEGUN = "UPDATE regroupings SET begun_ms = ? WHERE id = ?"
_END = "UPDATE regroupings SET state = :state, ended_ms = :now_ms WHERE id = :id"
_BROKEN_OFF = """
SELECT id, person_id FROM regroupings WHERE state = 'undoing' OR state = 'running' AND begun_ms IS NOT NULL ORDER BY id DESC"""
_WAITS = "SELECT 1 FROM regroupings WHERE id = ? AND state = 'running' AND begun_ms IS NULL"
_ONE = """
SELECT r.id, r.kind, r.said, people.name AS person, r.created_ms, r.state, r.moved, r.total, r.ended_ms
FROM regroupings r JOIN people ON people.id = r.person_id"""
_NUMBERED = f"{_ONE} WHERE r.id = ?"
_LATEST = f"{_ONE} ORDER BY r.id DESC LIMIT ?"
_KEEP_MOVE = "INSERT OR IGNORE INTO regrouped (regrouping_id, seq, from_issue, to_issue) VALUES (?, ?, ?, ?)"
_KEEP_FINGERPRINT = """
INSERT OR IGNORE INTO regrouped_fingerprints (regrouping_id, app_id, fingerprint, from_issue, to_issue, apart_before)
VALUES (?, ?, ?, ?, ?, ?)"""
# The users of moved failures: of each one, and of those that it represents.
_WHOSE: Final = issue_users.whose("f.seq IN (SELECT value FROM json_each(:seqs))")
_OUT: Final = (
    """
UPDATE issue_counts SET failures = issue_counts.failures - moving.n
FROM (SELECT issue_id, release_id, environment, time_ms / 3600000 AS hour, SUM(stands_for) AS n FROM failures
      WHERE seq IN (SELECT value FROM json_each(:seqs)) GROUP BY 1, 2, 3, 4) AS moving
WHERE (issue_counts.issue_id, issue_counts.hour, issue_counts.release_id, issue_counts.environment)
  = (moving.issue_id, moving.hour, moving.release_id, moving.environment)""",
    """
UPDATE issue_days SET failures = issue_days.failures - moving.n
FROM (SELECT issue_id, release_id, environment, time_ms / 86400000 AS day, SUM(stands_for) AS n FROM failures
      WHERE seq IN (SELECT value FROM json_each(:seqs)) GROUP BY 1, 2, 3, 4) AS moving
WHERE (issue_days.issue_id, issue_days.day, issue_days.release_id, issue_days.environment)
  = (moving.issue_id, moving.day, moving.release_id, moving.environment)""",
    f"""
UPDATE issue_users SET failures = issue_users.failures - moving.n
FROM (SELECT issue_id, user_id, SUM(n) AS n FROM ({_WHOSE}) GROUP BY 1, 2) AS moving
WHERE (issue_users.issue_id, issue_users.user_id) = (moving.issue_id, moving.user_id)""",  # noqa: S608 - of the constant above
)
# A row with a count of zero would still say that the issue was seen there.
_EMPTY: Final = (
    "DELETE FROM issue_counts WHERE issue_id = ? AND failures <= 0",
    "DELETE FROM issue_days WHERE issue_id = ? AND failures <= 0",
    "DELETE FROM issue_users WHERE issue_id = ? AND failures <= 0",
)
_MOVE = "UPDATE failures SET issue_id = :to_issue WHERE seq IN (SELECT value FROM json_each(:seqs))"
_IN: Final = (
    """
INSERT INTO issue_counts (issue_id, release_id, environment, hour, failures)
SELECT issue_id, release_id, environment, time_ms / 3600000, SUM(stands_for) FROM failures
WHERE seq IN (SELECT value FROM json_each(:seqs)) GROUP BY 1, 2, 3, 4
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures""",
    """
INSERT INTO issue_days (issue_id, release_id, environment, day, failures)
SELECT issue_id, release_id, environment, time_ms / 86400000, SUM(stands_for) FROM failures
WHERE seq IN (SELECT value FROM json_each(:seqs)) GROUP BY 1, 2, 3, 4
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures""",
    f"""
INSERT INTO issue_users (issue_id, user_id, failures)
SELECT issue_id, user_id, SUM(n) FROM ({_WHOSE}) WHERE TRUE GROUP BY 1, 2
ON CONFLICT DO UPDATE SET failures = failures + excluded.failures""",  # noqa: S608 - of the same
)
# From the rows, not from the moved ones: failures may have come between two steps.
_SUMS = """
UPDATE issues SET
  failures = (SELECT COALESCE(SUM(failures), 0) FROM issue_counts WHERE issue_id = :id),
  from_older_releases = (SELECT COALESCE(SUM(stands_for), 0) FROM failures WHERE issue_id = :id AND from_older_release = 1),
  only_counted = (SELECT COALESCE(SUM(stands_for - 1), 0) FROM failures WHERE issue_id = :id),
  first_seq = COALESCE((SELECT seq FROM failures WHERE issue_id = :id ORDER BY time_ms, seq LIMIT 1), first_seq),
  last_seq = COALESCE((SELECT seq FROM failures WHERE issue_id = :id ORDER BY time_ms DESC, seq DESC LIMIT 1), last_seq),
  first_ms = COALESCE((SELECT time_ms FROM failures WHERE issue_id = :id ORDER BY time_ms, seq LIMIT 1), first_ms),
  last_ms = COALESCE((SELECT time_ms FROM failures WHERE issue_id = :id ORDER BY time_ms DESC, seq DESC LIMIT 1), last_ms),
  message = COALESCE((SELECT message FROM failures WHERE issue_id = :id ORDER BY time_ms DESC, seq DESC LIMIT 1), message),
  entry_point = COALESCE((SELECT entry_point FROM failures WHERE issue_id = :id ORDER BY time_ms DESC, seq DESC LIMIT 1), entry_point),
  began_in_id = COALESCE((SELECT release_id FROM failures WHERE issue_id = :id ORDER BY time_ms, seq LIMIT 1), began_in_id)
WHERE id = :id"""
_NO_RATES = "DELETE FROM issue_releases WHERE issue_id = :id"
_RATES = """
INSERT INTO issue_releases (issue_id, release_id, environment, entry_point, failures, first_ms, last_ms)
SELECT issue_id, release_id, environment, entry_point, SUM(stands_for), MIN(time_ms), MAX(time_ms) FROM failures
WHERE issue_id = :id GROUP BY release_id, environment, entry_point"""
_NEW_LIKE = """
INSERT INTO issues (app_id, type, cause, place, message, entry_point, state, state_ms, settled_in, settled_ms,
                    first_ms, last_ms, first_seq, last_seq, began_in_id, failures, from_older_releases)
SELECT app_id, type, cause, place, message, entry_point, 'untriaged', :now_ms, NULL, NULL,
       first_ms, last_ms, first_seq, last_seq, began_in_id, 0, 0 FROM issues WHERE id = :id RETURNING id"""
_NAMED = "UPDATE issues SET type = ?, cause = ?, place = ? WHERE id = ?"
_LEAD = "UPDATE fingerprints SET issue_id = :to_issue, joined = :joined WHERE app_id = :app_id AND fingerprint = :fingerprint"
_APART = "UPDATE fingerprints SET apart_by = ? WHERE app_id = ? AND fingerprint = ?"
_ADD_APART = """
INSERT INTO fingerprints (app_id, fingerprint, issue_id, parts, joined)
SELECT app_id, :text, :to_issue, parts, :joined FROM fingerprints
WHERE app_id = :app_id AND fingerprint = :fingerprint ON CONFLICT DO UPDATE SET issue_id = excluded.issue_id"""
_FINGERPRINTS = "SELECT app_id, fingerprint, issue_id, apart_by FROM fingerprints WHERE issue_id = ?"
_ONE_FINGERPRINT = (
    "SELECT app_id, fingerprint, issue_id, apart_by FROM fingerprints WHERE app_id = ? AND fingerprint = ?"
)
_MERGED = "UPDATE issues SET merged_into = ? WHERE id = ?"
_SEQS = "SELECT seq FROM failures WHERE issue_id = ? AND seq > ? ORDER BY seq LIMIT ?"
_MOVES = "SELECT seq, from_issue, to_issue FROM regrouped WHERE regrouping_id = ? AND seq > ? ORDER BY seq LIMIT ?"
_LED = (
    "SELECT app_id, fingerprint, from_issue, to_issue, apart_before FROM regrouped_fingerprints WHERE regrouping_id = ?"
)
_SINCE = "SELECT seq FROM failures WHERE issue_id = ? AND fingerprint = ? ORDER BY seq LIMIT ?"
_FORGET = "DELETE FROM fingerprints WHERE app_id = ? AND fingerprint = ?"
_TOUCHED = "SELECT DISTINCT from_issue AS id FROM regrouped WHERE regrouping_id = :id UNION SELECT DISTINCT to_issue FROM regrouped WHERE regrouping_id = :id"

_HISTORY_OF = """
SELECT seq, issue_id, environment FROM failures WHERE app_id = :app_id AND seq > :after ORDER BY seq LIMIT :most"""
_STARTS_AT = """
SELECT COALESCE(MIN(seq), 0) AS seq FROM (
  SELECT seq FROM failures WHERE app_id = ? ORDER BY seq DESC LIMIT ?)"""
_COUNT_OF_APP = "SELECT COUNT(*) AS n FROM failures WHERE app_id = ?"
_LATEST_OF = "SELECT seq, environment FROM failures WHERE issue_id = ? ORDER BY seq DESC LIMIT ?"


@dataclass(frozen=True, slots=True)
class Move:
    """One failure that goes to another issue."""

    seq: int
    from_issue: int
    to_issue: int


def begin(connection: sqlite3.Connection, kind: Kind, remark: str, person_id: int, total: int, now_ms: int) -> int:
    """Add a waiting regrouping, and return its number."""
    values = {"kind": kind, "said": remark, "person_id": person_id, "total": total, "now_ms": now_ms}
    return int(connection.execute(_BEGIN, values).fetchone()[0])


def end(connection: sqlite3.Connection, regrouping: int, state: str, now_ms: int) -> None:
    """End a regrouping: ``done``, ``undone`` or ``failed``."""
    connection.execute(_END, {"id": regrouping, "state": state, "now_ms": now_ms})


def broken_off(reader: Reader) -> list[BrokenOff]:
    """Return the regroupings that a kill or a stop interrupted, the latest first."""
    return reader.all(BrokenOff, _BROKEN_OFF)


def waits(reader: Reader, number: int) -> bool:
    """Return whether a regrouping is waiting."""
    return reader.row(_WAITS, (number,)) is not None


def begun(connection: sqlite3.Connection, number: int, now_ms: int) -> None:
    """Mark a regrouping as begun: if it is interrupted after this, it is undone."""
    connection.execute(_BEGUN, (now_ms, number))


def regrouping(reader: Reader, number: int) -> Regrouping:
    """Return one regrouping; raises NotThere."""
    return reader.only(Regrouping, _NUMBERED, (number,), what=f"regrouping {number}")


def regroupings(reader: Reader, most: int) -> list[Regrouping]:
    """Return the latest regroupings, newest first."""
    return reader.all(Regrouping, _LATEST, (most,))


def seqs_of(reader: Reader, issue_id: int, after: int, most: int) -> list[int]:
    """Return failures of an issue with numbers above ``after``, in order."""
    return reader.column(int, _SEQS, (issue_id, after, most))


def history(reader: Reader, app_id: int, most: int | None) -> Iterator[FailureToRegroup]:
    """Yield an app's failures in the order they came: the latest ``most``, or all."""
    after = 0 if most is None else reader.value(int, _STARTS_AT, (app_id, most)) - 1
    while rows := reader.all(
        FailureToRegroup, _HISTORY_OF, {"app_id": app_id, "after": after, "most": MOST_IN_ONE_STEP}
    ):
        yield from rows
        after = rows[-1].seq


def failures_of_app(reader: Reader, app_id: int) -> int:
    """Return how many failures an app has."""
    return reader.value(int, _COUNT_OF_APP, (app_id,))


def latest_of(reader: Reader, issue_id: int, most: int) -> list[FailureOfIssue]:
    """Return an issue's latest failures, the latest first."""
    return reader.all(FailureOfIssue, _LATEST_OF, (issue_id, most))


def new_issue_like(connection: sqlite3.Connection, issue_id: int, now_ms: int) -> int:
    """Make an issue with another one's name and no failures yet; raises NotThere."""
    row = connection.execute(_NEW_LIKE, {"id": issue_id, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no issue {issue_id}")
    return int(row[0])


def name_issue(connection: sqlite3.Connection, issue_id: int, kind: str, cause: str, place: str) -> None:
    """Give an issue its type, cause and place."""
    connection.execute(_NAMED, (kind, cause, place, issue_id))


def move(connection: sqlite3.Connection, number: int, moves: Sequence[Move], *, keep: bool = True) -> None:
    """Move failures, with their counts, and store where they came from."""
    going: dict[int, list[int]] = {}
    for move_made in moves:
        going.setdefault(move_made.to_issue, []).append(move_made.seq)
    for to_issue, seqs in going.items():
        values = {"seqs": json.dumps(seqs), "to_issue": to_issue}
        for statement in (*_OUT, _MOVE, *_IN):
            connection.execute(statement, values)
    if keep:
        connection.executemany(
            _KEEP_MOVE, [(number, move_made.seq, move_made.from_issue, move_made.to_issue) for move_made in moves]
        )
    for issue_id in {number for move_made in moves for number in (move_made.from_issue, move_made.to_issue)}:
        for statement in _EMPTY:
            connection.execute(statement, (issue_id,))
    connection.execute(_PROGRESS, {"id": number, "moved": len(moves)})


def sum_up(connection: sqlite3.Connection, issue_ids: Sequence[int]) -> None:
    """Count issues again after failures were moved."""
    for issue_id in issue_ids:
        for statement in (_SUMS, _NO_RATES, _RATES):
            connection.execute(statement, {"id": issue_id})
        issue_users.sum_up(connection, issue_id)


def lead(
    connection: sqlite3.Connection, number: int, app_id: int, fingerprint: str, to_issue: int, joined: str
) -> None:
    """Make a fingerprint lead to another issue from now on."""
    row = typed(connection.execute(_ONE_FINGERPRINT, (app_id, fingerprint)), FingerprintToLead)
    if not row or row[0].issue_id == to_issue:
        return
    connection.execute(_KEEP_FINGERPRINT, (number, app_id, fingerprint, row[0].issue_id, to_issue, row[0].apart_by))
    connection.execute(_LEAD, {"app_id": app_id, "fingerprint": fingerprint, "to_issue": to_issue, "joined": joined})


def lead_all(connection: sqlite3.Connection, number: int, from_issue: int, to_issue: int, joined: str) -> None:
    """Make all fingerprints of an issue lead to another one."""
    for row in typed(connection.execute(_FINGERPRINTS, (from_issue,)), FingerprintToLead):
        lead(connection, number, row.app_id, row.fingerprint, to_issue, joined)


def keep_apart(
    connection: sqlite3.Connection, number: int, app_id: int, fingerprint: str, names: Sequence[str]
) -> None:
    """Keep failures of a fingerprint apart by attributes from now on."""
    for row in typed(connection.execute(_ONE_FINGERPRINT, (app_id, fingerprint)), FingerprintToLead):
        connection.execute(_KEEP_FINGERPRINT, (number, app_id, fingerprint, row.issue_id, row.issue_id, row.apart_by))
        connection.execute(_APART, (json.dumps(list(names)), app_id, fingerprint))


def add_apart(
    connection: sqlite3.Connection, number: int, app_id: int, fingerprint: str, text: str, to_issue: int, joined: str
) -> None:
    """Add the fingerprint of those failures that have one set of values."""
    values = {"app_id": app_id, "fingerprint": fingerprint, "text": text, "to_issue": to_issue, "joined": joined}
    connection.execute(_ADD_APART, values)
    connection.execute(_KEEP_FINGERPRINT, (number, app_id, text, None, to_issue, None))


def merged_into(connection: sqlite3.Connection, issue_id: int, into: int | None) -> None:
    """Mark an issue as merged into another one, or not any more."""
    connection.execute(_MERGED, (into, issue_id))


def fingerprints_of(reader: Reader, issue_id: int) -> list[FingerprintToLead]:
    """Return all fingerprints that lead to an issue."""
    return reader.all(FingerprintToLead, _FINGERPRINTS, (issue_id,))


def moves_of(reader: Reader, number: int, after: int) -> list[Moved]:
    """Return the moves of a regrouping, one step with numbers above ``after``."""
    return reader.all(Moved, _MOVES, (number, after, MOST_IN_ONE_STEP))


def touched_by(reader: Reader, number: int) -> list[int]:
    """Return the issues from or to which a regrouping moved failures."""
    return reader.column(int, _TOUCHED, {"id": number})


def lead_back(connection: sqlite3.Connection, number: int) -> list[tuple[str, int, int]]:
    """Undo what a regrouping did to fingerprints; return (fingerprint, the issue it led to, the issue it leads to again)."""
    back: list[tuple[str, int, int]] = []
    led = typed(connection.execute(_LED, (number,)), LedFingerprint)
    home = {(row.app_id, row.fingerprint): row.from_issue for row in led if row.from_issue is not None}
    for row in led:
        key = (row.app_id, row.fingerprint)
        if row.from_issue is None:
            # A split made this fingerprint: it led nowhere before, and later failures with it are moved back.
            connection.execute(_FORGET, key)
            origin = home.get((row.app_id, row.fingerprint.partition("/")[0]), row.to_issue)
            back.append((row.fingerprint, row.to_issue, origin))
            continue
        connection.execute(_LEAD, {"app_id": key[0], "fingerprint": key[1], "to_issue": row.from_issue, "joined": ""})
        connection.execute(_APART, (row.apart_before, *key))
        back.append((row.fingerprint, row.to_issue, row.from_issue))
    return back


def seqs_with(reader: Reader, issue_id: int, fingerprint: str) -> list[int]:
    """Return one step of an issue's failures with one fingerprint."""
    return reader.column(int, _SINCE, (issue_id, fingerprint, MOST_IN_ONE_STEP))
