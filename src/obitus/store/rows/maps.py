"""The rows of source maps."""

from __future__ import annotations

from typing import NamedTuple


class MapRow(NamedTuple):
    """The source map of one built file of a release."""

    id: int
    app_id: int
    release: str
    path: str
    name: str
    debug_id: str
    hash: bytes
    bytes: int
    sources: int
    with_text: int
    added_by: str
    added_ms: int


class MapsOfRelease(NamedTuple):
    """The maps of one release, counted."""

    release: str
    maps: int
    bytes: int
    with_text: int
    latest_ms: int


class HashRow(NamedTuple):
    """A map by its path, and its hash."""

    path: str
    hash: bytes
