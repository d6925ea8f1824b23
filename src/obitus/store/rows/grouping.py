"""Rows of grouping: rules, fingerprints, and moves of regroupings."""

from __future__ import annotations

from typing import NamedTuple


class Rule(NamedTuple):
    """A rule of the team that is active."""

    id: int
    rule: str
    person: str
    created_ms: int


class BrokenOff(NamedTuple):
    """An interrupted regrouping."""

    id: int
    person_id: int


class Regrouping(NamedTuple):
    """A merge, a split or a regrouping."""

    id: int
    kind: str
    said: str
    person: str
    created_ms: int
    state: str
    moved: int
    total: int
    ended_ms: int | None


class FailureToRegroup(NamedTuple):
    """A failure of an app, for regrouping."""

    seq: int
    issue_id: int
    environment: str


class FailureOfIssue(NamedTuple):
    """A failure of an issue, for a split."""

    seq: int
    environment: str


class FingerprintToLead(NamedTuple):
    """A fingerprint and its issue; ``apart_by`` is JSON."""

    app_id: int
    fingerprint: str
    issue_id: int
    apart_by: str | None


class Moved(NamedTuple):
    """A failure that a regrouping moved."""

    seq: int
    from_issue: int
    to_issue: int


class KnownTraits(NamedTuple):
    """A known fingerprint, with its compared properties as JSON."""

    fingerprint: str
    issue_id: int
    traits: str


class AppTraits(NamedTuple):
    """The compared properties of an app's fingerprint, as JSON."""

    app_id: int
    traits: str


class NeverPair(NamedTuple):
    """Two issues that are kept apart, the lower number first."""

    issue_id: int
    other_id: int


class LedFingerprint(NamedTuple):
    """The change of a fingerprint by a regrouping; ``from_issue`` is None where it made it."""

    app_id: int
    fingerprint: str
    from_issue: int | None
    to_issue: int
    apart_before: str | None
