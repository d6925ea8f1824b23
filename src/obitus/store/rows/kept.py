"""Rows of retention."""

from __future__ import annotations

from typing import NamedTuple


class KeptFor(NamedTuple):
    """For how many days a kind of an app is kept."""

    kind: str
    app_id: int
    """0 for all apps."""
    days: int
    """0 for ever."""


class ThinnedDay(NamedTuple):
    """A day whose file was rewritten without a part of its records."""

    day: int
    what: str
    why: str
    removed: int
    bytes_before: int
    bytes_after: int
    thinned_ms: int


class AppNumber(NamedTuple):
    """An app, removed or not."""

    id: int
    name: str
