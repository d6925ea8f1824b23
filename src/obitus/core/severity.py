"""Severities, as OpenTelemetry's log data model names and numbers them (SeverityNumber, 1 to 24)."""

from __future__ import annotations

from typing import Final

SEVERITIES: Final = ("TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL")


def from_python_level(level: int) -> str:
    """Return the severity for a level of Python's ``logging`` (DEBUG is 10, CRITICAL is 50)."""
    if level >= 50:
        return "FATAL"
    if level >= 40:
        return "ERROR"
    if level >= 30:
        return "WARN"
    if level >= 20:
        return "INFO"
    return "DEBUG" if level >= 10 else "TRACE"
