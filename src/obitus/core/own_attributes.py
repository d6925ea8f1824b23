"""Attributes that have no name in OpenTelemetry's semantic conventions. Standard library only: the client uses this too."""

from __future__ import annotations

from typing import Final

ERROR_INSIDE: Final = "http.response.error_inside"
"""Of a run: what an answer that went out as a good one says of an error."""
ACCESS_LOG: Final = "access_log.name"
"""Of a run that was read from an access log: the name of the file."""
QUIET_KIND: Final = "quiet.kind"
QUIET_SUBJECT: Final = "quiet.subject"
"""Of a failure that was made of what an issue collects: what kind of quiet failure it is, and its entry point or what its records say."""
