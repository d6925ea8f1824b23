"""What both ends of a connection know: the version of Obitus, the media type with which senders name it, and the
statuses that a proxy between them answers with.
"""

from __future__ import annotations

from typing import Final

VERSION: Final = "0.1.0"
REPORT_FORMAT: Final = 1
"""The version of the report format."""

AWAY_BEHIND_PROXY: Final = frozenset({502, 503, 504})
"""Statuses with which a proxy says that the service behind it does not answer (RFC 9110, sections 15.6.3 to 15.6.5).
Where the service itself answers with one of them, it does so in its own words."""


def media_type(sender: str) -> str:
    """Return the media type of reports, with the version of their format and the client: ``client=python-0.1.0``."""
    return f"application/x-ndjson; version={REPORT_FORMAT}; client={sender}-{VERSION}"
