"""A report as the fields that questions ask for. A field of the report hides an attribute of the same name."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any, Final, Literal
from uuid import UUID

from obitus.core.calls import called_text, calls_of
from obitus.core.clock import to_ms

Kind = Literal["failure", "log", "run"]
TEXTS: Final[dict[Kind, tuple[str, ...]]] = {
    "failure": ("type", "message", "entry_point"),
    "log": ("message",),
    "run": ("request", "entry_point"),
}
"""The fields of each kind in which words are searched."""


def record_of(
    content: Mapping[str, Any], *, app: str, environment: str, received_ms: int, release: str | None = None
) -> dict[str, Any]:
    """Return the fields of a report, after redaction. Empty ones are left out. Times are Unix milliseconds.

    ``release`` is its release by its present name, where it was renamed since.
    """
    run = content.get("run") or {}
    found: dict[str, Any] = {
        "app": app,
        "environment": environment,
        "release": release if release is not None else content.get("release"),
        "time": to_ms(datetime.fromisoformat(content["time"])),
        "received": received_ms,
        "trace_id": content.get("trace_id"),
        "entry_point": run.get("entry_point"),
        "run": uuid_text(run.get("id")),
        **_OF_KIND[content["kind"]](content),
    }
    present = {name: value for name, value in found.items() if value is not None and value != ""}
    attributes = {
        name: value for name, value in content.get("attributes", {}).items() if name not in FIELDS[content["kind"]]
    }
    if content["kind"] == "run" and (called := called_text(calls_of(content.get("trail", ())))):
        attributes.setdefault(CALLS, called)
    return attributes | present


CALLS: Final = "calls"
"""What a run called, as an attribute; an attribute of the report by that name is kept."""


def uuid_text(given: str | None) -> str | None:
    """Return an id of a run as questions write it: in lower case, with dashes."""
    return str(UUID(given)) if given else None


def request_line(request: Mapping[str, Any]) -> str:
    """Return the method and the address of a request."""
    return " ".join(
        part for part in (request.get("method", ""), request.get("url") or request.get("route", "")) if part
    )


def _of_log(content: Mapping[str, Any]) -> dict[str, Any]:
    names = ("severity", "logger", "message", "template", "span_id")
    return {name: content.get(name) for name in names} | {"template": content.get("template") or None}


def _of_run(content: Mapping[str, Any]) -> dict[str, Any]:
    run, request = content["run"], content.get("request") or {}
    return {
        "outcome": run.get("outcome"),
        "status": request.get("status"),
        "duration": run.get("duration_ms"),
        "request": request_line(request)[:LONGEST_REQUEST],
        "kept": run.get("kept"),
    }


def _of_failure(content: Mapping[str, Any]) -> dict[str, Any]:
    chain = content["exceptions"]
    return {
        "severity": content.get("severity", "ERROR"),
        "handled": content.get("handled", False),
        "type": chain[0]["type"],
        "message": chain[0].get("message", "")[:LONGEST_MESSAGE],
    }


LONGEST_REQUEST: Final = 2000
LONGEST_MESSAGE: Final = 1000
"""Most characters of a request line, and of a failure's message, that can be searched."""
_OF_KIND: Final = {"log": _of_log, "run": _of_run, "failure": _of_failure}
_COMMON: Final = frozenset({"app", "environment", "release", "time", "received", "trace_id", "entry_point", "run"})
FIELDS: Final[dict[str, frozenset[str]]] = {
    "log": _COMMON | {"severity", "logger", "message", "template", "span_id"},
    "run": _COMMON | {"outcome", "status", "duration", "request", "kept"},
    "failure": _COMMON | {"severity", "handled", "type", "message"},
}
"""The fields of each kind that are its own; any other is an attribute."""
