"""Rows of apps, their keys, and thresholds of their loggers."""

from __future__ import annotations

from typing import NamedTuple

from obitus.core.severity import SeverityName


class App(NamedTuple):
    """One app."""

    id: int
    name: str
    kind: str
    created_ms: int
    first_report_ms: int | None
    last_report_ms: int | None


class Key(NamedTuple):
    """A reporting key, as it is listed."""

    id: int
    app_id: int
    environment: str
    hint: str
    created_ms: int
    revoked_ms: int | None
    may_add_apps: int
    may_deploy: int
    origins: str
    reports_a_day: int | None
    bytes_a_day: int | None
    """Its bounds for a day; None for the usual ones."""


class KeyUse(NamedTuple):
    """The use of a reporting key on a day."""

    key_id: int
    reports: int
    bytes: int


class KnownKey(NamedTuple):
    """A reporting key, for checking requests."""

    id: int
    app_id: int
    environment: str
    revoked_ms: int | None
    may_add_apps: int
    may_deploy: int
    app: str
    origins: str = ""
    """JSON: the origins whose pages may report with it; '' for a key that is not for pages."""
    reports_a_day: int | None = None
    bytes_a_day: int | None = None


class AppRelease(NamedTuple):
    """A release and its app."""

    id: int
    version: str
    first_ms: int
    app: str
    app_id: int


class Named(NamedTuple):
    """A number and its name."""

    id: int
    name: str


class LogOrder(NamedTuple):
    """A temporary threshold of a logger."""

    id: int
    app_id: int
    environment: str
    logger: str
    severity: SeverityName
    made_ms: int
    until_ms: int
    person: str
