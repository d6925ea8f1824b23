"""The version of Obitus, and the media type with which senders name it."""

from __future__ import annotations

from typing import Final

VERSION: Final = "0.1.0"
REPORT_FORMAT: Final = 1
"""The version of the report format."""


def media_type(sender: str) -> str:
    """Return the media type of reports, with the version of their format and the client: ``client=python-0.1.0``."""
    return f"application/x-ndjson; version={REPORT_FORMAT}; client={sender}-{VERSION}"
