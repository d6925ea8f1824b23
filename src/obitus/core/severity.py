"""Severities, as OpenTelemetry's log data model names and numbers them (SeverityNumber, 1 to 24), and thresholds by logger.

Standard library only: the client uses this too.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final, Literal

SeverityName = Literal["TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"]
SEVERITIES: Final = ("TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL")
OFF: Final = "off"

_RANK: Final = {name: rank for rank, name in enumerate(SEVERITIES)} | {OFF: len(SEVERITIES)}
# Other names of severities that log writers use.
_SEVERITY_OF: Final = {
    "WARNING": "WARN", "CRITICAL": "FATAL", "CRIT": "FATAL", "SEVERE": "ERROR", "ERR": "ERROR", "ALERT": "FATAL", "EMERG": "FATAL", "PANIC": "FATAL",
    "EMERGENCY": "FATAL", "NOTICE": "INFO", "INFORMATION": "INFO", "CONFIG": "DEBUG", "FINE": "DEBUG", "FINER": "TRACE", "FINEST": "TRACE", "VERBOSE": "TRACE",
}  # fmt: skip


class ThresholdTrouble(ValueError):
    """Raised for thresholds that cannot be understood; says how they are written."""


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


def rank(severity: str) -> int:
    """Return a severity's place in the order, 0 for TRACE; unknown ones count as ERROR."""
    return _RANK.get(severity, 4)


class Thresholds:
    """Thresholds by logger; a logger that is not named follows its nearest parent."""

    def __init__(self, by_logger: Mapping[str, str]) -> None:
        self._by_logger = dict(by_logger)
        self._known: dict[str, int] = {}

    def passes(self, logger: str, severity: str) -> bool:
        """Whether a record of that logger and severity passes."""
        try:
            least = self._known[logger]
        except KeyError:
            least = self._look_up(logger)
        return _RANK[severity] >= least

    def _look_up(self, logger: str) -> int:
        name = logger
        while name and name not in self._by_logger:
            name = name.rpartition(".")[0]
        least = _RANK[self._by_logger.get(name, OFF)]
        if len(self._known) < 5000:
            self._known[logger] = least
        return least


def parse_thresholds(text: str, default: str) -> dict[str, str]:
    """Parse ``WARN, sailings.fares=DEBUG, noisy=off``; a severity alone is for every logger. Raises ThresholdTrouble."""
    thresholds = {"": default}
    for part in filter(None, (part.strip() for part in text.replace(";", ",").split(","))):
        name, equals, severity = part.rpartition("=")
        severity = severity.strip()
        severity = OFF if severity.lower() == OFF else severity.upper()
        severity = {"WARNING": "WARN", "CRITICAL": "FATAL"}.get(severity, severity)
        if severity not in _RANK or (equals and not name.strip()):
            known = ", ".join(SEVERITIES)
            raise ThresholdTrouble(f"{part[:80]!r} is no threshold. Write LOGGER=SEVERITY with one of {known}, or off.")
        thresholds[name.strip()] = severity
    return thresholds


def severity_of(level: str) -> str:
    """Return the severity of a log writer's level; ``""`` where it is not known."""
    name = level.upper()
    name = _SEVERITY_OF.get(name, name)
    return name if name in SEVERITIES else ""
