"""Finding the issue of a failure: by its exact fingerprint, by an earlier version's, or by likeness to known ones."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from hashlib import blake2b
from typing import Any, Final, Protocol

from obitus.core.clock import MINUTE_MS
from obitus.core.grouping.groups import MOST_COMPARED, Candidate, Choice, choose
from obitus.core.grouping.likeness import keys_of
from obitus.core.grouping.recipe import Part, Traits, as_text, from_text
from obitus.store.database import Reader, typed
from obitus.store.rows.grouping import AppTraits, KnownTraits, NeverPair

MOST_NEW_ISSUES: Final = 200
"""Most new issues of one app in one minute; further failures go to its collecting issue."""
MOST_ISSUES: Final = 20_000
"""Most issues of one app in all; beyond that failures go to its collecting issue, too."""
_NEWER: Final = ("4-", "5-")
"""Fingerprints that differ from those of version 3; all others are the same since then."""
COLLECTING: Final = "collecting"
COLLECTING_TYPE: Final = "Too many new issues"

_ISSUE_OF = """
SELECT issue_id, apart_by FROM fingerprints INDEXED BY fingerprints_lead WHERE app_id = ? AND fingerprint = ?"""
_HAS_EARLIER = "SELECT 1 FROM fingerprints WHERE app_id = ? AND fingerprint >= '1-' AND fingerprint < '3' LIMIT 1"
_ADD = """
INSERT INTO fingerprints (app_id, fingerprint, issue_id, parts, traits_id, joined) VALUES (?, ?, ?, ?, ?, ?)
ON CONFLICT DO NOTHING"""
_ADD_TRAITS = "INSERT INTO fingerprint_traits (fingerprint, traits) VALUES (?, ?) RETURNING id"
_KNOWN = "SELECT 1 FROM fingerprints WHERE app_id = ? AND fingerprint = ?"
_ADD_KEY = "INSERT OR IGNORE INTO fingerprint_keys (app_id, key, traits_id) VALUES (?, ?, ?)"
# The hint makes SQLite use the index: the rows of fingerprints have their explanations, some kilobytes each.
_WITH_KEY = """
SELECT t.fingerprint, f.issue_id, t.traits FROM (
  SELECT traits_id FROM fingerprint_keys WHERE app_id = :app_id AND key = :key ORDER BY traits_id DESC LIMIT :most) k
JOIN fingerprint_traits t ON t.id = k.traits_id
JOIN fingerprints f INDEXED BY fingerprints_lead ON f.app_id = :app_id AND f.fingerprint = t.fingerprint"""
_MADE = """
INSERT INTO new_issues (app_id, minute, made) VALUES (?, ?, 1)
ON CONFLICT DO UPDATE SET made = made + 1 RETURNING made"""
_NEVER = """
SELECT CASE WHEN issue_id = :id THEN other_id ELSE issue_id END AS other
FROM never_together WHERE issue_id = :id OR other_id = :id"""
# Skips through the index of an app's issues: a fraction of a millisecond, for new issues alone.
_IS_FULL = "SELECT 1 FROM issues INDEXED BY issues_by_app WHERE app_id = ? LIMIT 1 OFFSET ?"
_NEVER_PAIRS = "SELECT issue_id, other_id FROM never_together"
_TRAITS_OF = """
SELECT f.app_id, t.traits FROM fingerprints f JOIN fingerprint_traits t ON t.id = f.traits_id
WHERE f.issue_id = ? LIMIT ?"""
_ADD_NEVER = """
INSERT INTO never_together (issue_id, other_id, person_id, created_ms) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING"""
MOST_FINGERPRINTS: Final = 50


class Further(Protocol):
    """Parts of a failure that are seldom needed: when its fingerprint is new, or a split keeps its issue apart."""

    def parts(self) -> Sequence[Part]:
        """Return what counted and what did not, each with its reason."""

    def earlier(self) -> Sequence[str]:
        """Return the fingerprints that earlier versions of the recipe gave, the newest first."""

    def value_of(self, name: str) -> str:
        """Return the value of the failure by which a split keeps it apart."""


@dataclass(frozen=True, slots=True)
class Decided:
    """The fingerprint of a failure, and what the store needs to find its issue."""

    fingerprint: str
    traits: Traits | None
    """Absent where a rule decides: then fingerprints are not compared."""
    further: Further
    was_prepared: bool = True
    """Where it was not, the failure can only be counted: its other parts are not known."""


@dataclass(frozen=True, slots=True)
class FoundIssue:
    """The issue of a failure (None: a new one), the fingerprint that led there, and how."""

    issue_id: int | None
    fingerprint: str
    known: bool
    joined: str = ""
    collecting: bool = False


class WantsWhole(Exception):
    """Raised where a failure that was not fully prepared cannot be only counted. ``is_wanted``: it was taken from what
    its issue may keep whole, and is kept even where another represents it by the time it is prepared.
    """

    def __init__(self, *, is_wanted: bool = False) -> None:
        super().__init__()
        self.is_wanted = is_wanted


def find(connection: sqlite3.Connection, app_id: int, decided: Decided, received_ms: int) -> FoundIssue:
    """Find the issue of a failure. Runs on the writer, in the transaction that writes the failure. Raises WantsWhole
    where that needs parts that were not prepared.
    """
    text = decided.fingerprint
    row = connection.execute(_ISSUE_OF, (app_id, text)).fetchone()
    if not decided.was_prepared and (row is None or row[1] is not None):
        raise WantsWhole
    if row is not None and row[1] is not None:
        text = apart_text(text, [decided.further.value_of(name) for name in json.loads(row[1])])
        row = connection.execute(_ISSUE_OF, (app_id, text)).fetchone()
        if row is None:
            return _new(connection, app_id, text, received_ms)
    if row is not None:
        return FoundIssue(int(row[0]), text, known=True)
    # Older recipes take as long as the present one: they are skipped where none of them could have put the failure elsewhere.
    if text.startswith(_NEWER) or connection.execute(_HAS_EARLIER, (app_id,)).fetchone() is not None:
        for earlier in decided.further.earlier():
            row = connection.execute(_ISSUE_OF, (app_id, earlier)).fetchone()
            if row is not None:
                return FoundIssue(
                    int(row[0]),
                    text,
                    known=False,
                    joined="an earlier version of the recipe put it here; a new version splits no issue",
                )
    if decided.traits is not None:
        choice = choose(
            decided.traits,
            candidates(
                lambda params: typed(connection.execute(_WITH_KEY, params), KnownTraits), app_id, decided.traits
            ),
        )
        if choice.joins is not None:
            return FoundIssue(choice.joins.issue, text, known=False, joined=choice.joins.verdict.reason)
    return _new(connection, app_id, text, received_ms)


def _new(connection: sqlite3.Connection, app_id: int, text: str, received_ms: int) -> FoundIssue:
    # In the transaction that makes the issue: a flood over many connections is counted as one.
    made = connection.execute(_MADE, (app_id, received_ms // MINUTE_MS)).fetchone()[0]
    if made <= MOST_NEW_ISSUES and not connection.execute(_IS_FULL, (app_id, MOST_ISSUES - 1)).fetchone():
        return FoundIssue(None, text, known=False)
    row = connection.execute(_ISSUE_OF, (app_id, COLLECTING)).fetchone()
    return FoundIssue(int(row[0]) if row else None, COLLECTING, known=row is not None, collecting=True)


def apart_text(fingerprint: str, values: Sequence[str]) -> str:
    """Return the fingerprint of failures that a split keeps apart by these values."""
    hashed = blake2b("\0".join(values).encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()
    return f"{fingerprint}/{hashed}"


def candidates(found_by: Callable[[dict[str, Any]], list[KnownTraits]], app_id: int, traits: Traits) -> list[Candidate]:
    """Return the known fingerprints that share something with these traits; a bounded number, the newest."""
    by_fingerprint: dict[str, Candidate] = {}
    for key in keys_of(traits):
        for row in found_by({"app_id": app_id, "key": key, "most": MOST_COMPARED}):
            if row.fingerprint not in by_fingerprint:
                by_fingerprint[row.fingerprint] = Candidate(
                    row.issue_id, row.fingerprint, from_text(json.loads(row.traits))
                )
    return list(by_fingerprint.values())


def add_fingerprint(
    connection: sqlite3.Connection, app_id: int, issue_id: int, decided: Decided, found_issue: FoundIssue
) -> None:
    """Store a new fingerprint, with its explanation and its keys; a known one changes nothing."""
    if connection.execute(_KNOWN, (app_id, found_issue.fingerprint)).fetchone() is not None:
        return
    parts = [] if found_issue.collecting else [part.as_dict() for part in decided.further.parts()]
    traits_id = None
    if decided.traits is not None and not found_issue.collecting and "/" not in found_issue.fingerprint:
        text = json.dumps(as_text(decided.traits), ensure_ascii=True)
        traits_id = connection.execute(_ADD_TRAITS, (found_issue.fingerprint, text)).fetchone()[0]
        connection.executemany(_ADD_KEY, [(app_id, key, traits_id) for key in keys_of(decided.traits)])
    shown = json.dumps(parts, ensure_ascii=True)
    connection.execute(_ADD, (app_id, found_issue.fingerprint, issue_id, shown, traits_id, found_issue.joined))


def traits_of(reader: Reader, issue_id: int) -> list[Traits]:
    """Return the properties by which the fingerprints of an issue are compared."""
    return [
        from_text(json.loads(row.traits)) for row in reader.all(AppTraits, _TRAITS_OF, (issue_id, MOST_FINGERPRINTS))
    ]


def perhaps(reader: Reader, issue_id: int) -> list[tuple[int, str]]:
    """Return the issues that may be the same fault as this one, the likeliest first, each with the reason."""
    best: dict[int, tuple[float, str]] = {}
    never = set(never_with(reader, issue_id))
    for row in reader.all(AppTraits, _TRAITS_OF, (issue_id, MOST_FINGERPRINTS)):
        traits = from_text(json.loads(row.traits))
        known = candidates(lambda params: reader.all(KnownTraits, _WITH_KEY, params), row.app_id, traits)
        others = [fingerprint_row for fingerprint_row in known if fingerprint_row.issue != issue_id]
        choice: Choice = choose(traits, others, never)
        for like in (*([choice.joins] if choice.joins else []), *choice.perhaps):
            strength = like.verdict.strength + (like.verdict.kind == "same")
            if strength > best.get(like.issue, (0.0, ""))[0]:
                best[like.issue] = (strength, like.verdict.reason)
    ordered = sorted(best.items(), key=lambda one: (-one[1][0], one[0]))
    return [(issue, reason) for issue, (_, reason) in ordered[:5]]


def never_with(reader: Reader, issue_id: int) -> list[int]:
    """Return the issues that people keep apart from this one."""
    return sorted(reader.column(int, _NEVER, {"id": issue_id}))


def never_pairs(reader: Reader) -> set[tuple[int, int]]:
    """Return all pairs of issues that are kept apart, the lower number first."""
    return set(reader.all(NeverPair, _NEVER_PAIRS))


def add_never(connection: sqlite3.Connection, issue_id: int, other_id: int, person_id: int, now_ms: int) -> None:
    """Keep two issues apart. Runs on the writer."""
    connection.execute(_ADD_NEVER, (min(issue_id, other_id), max(issue_id, other_id), person_id, now_ms))
