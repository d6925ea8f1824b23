"""How the fields of logs and runs are stored in a day file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

How = Literal["number", "text", "named", "id", "uuid", "app", "release", "severity", "message", "template", "flag"]


@dataclass(frozen=True, slots=True)
class Kept:
    """How a field is stored: its column, and its form."""

    how: How
    column: str
    null: bool = False
    """Whether the column may be absent."""


_COMMON: Final = {
    "app": Kept("app", "app_id"),
    "environment": Kept("named", "environment_id"),
    "release": Kept("release", "release_id"),
    "time": Kept("number", "time_ms"),
    "received": Kept("number", "(time_ms + late_ms)"),
    "trace_id": Kept("id", "trace_id", null=True),
    "entry_point": Kept("named", "entry_point_id"),
    "run": Kept("uuid", "run_id", null=True),
}
LOGS: Final[dict[str, Kept]] = _COMMON | {
    "severity": Kept("severity", "severity"),
    "logger": Kept("named", "logger_id"),
    "message": Kept("message", "message"),
    "template": Kept("template", "template_id"),
    "span_id": Kept("id", "span_id", null=True),
}
RUNS: Final[dict[str, Kept]] = _COMMON | {
    "outcome": Kept("text", "outcome"),
    "status": Kept("number", "status", null=True),
    "duration": Kept("number", "duration_ms", null=True),
    "request": Kept("text", "request"),
    "kept": Kept("named", "kept_id"),
}
FAILURES: Final[dict[str, Kept]] = _COMMON | {
    "severity": Kept("severity", "severity"),
    "handled": Kept("flag", "handled"),
    "type": Kept("named", "type_id"),
    "message": Kept("text", "message"),
}
FIELDS: Final = {"failure": FAILURES, "log": LOGS, "run": RUNS}
INDEXED: Final = frozenset({"logger", "entry_point", "run", "trace_id", "type"})
"""Fields with a term in the text index, in addition to all attributes."""
