"""Attributes that have no name in OpenTelemetry's semantic conventions. Standard library only: the client uses this too."""

from __future__ import annotations

from typing import Final

ERROR_INSIDE: Final = "http.response.error_inside"
"""Of a run: the error inside a successful answer."""
ACCESS_LOG: Final = "access_log.name"
"""Of a run from an access log: the name of the file."""
QUIET_KIND: Final = "quiet.kind"
QUIET_SUBJECT: Final = "quiet.subject"
"""Of a failure made from a record that an issue collects: the kind of quiet failure, and its entry point or the text
of its records."""
