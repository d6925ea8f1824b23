"""Lines of log files as log records, for ``obitus read --lines``: a record and its continuation lines are one."""

from __future__ import annotations

import json
import re
import time
from datetime import tzinfo
from typing import Any, Final

from obitus.core.bounds import long, short
from obitus.core.clock import to_text
from obitus.core.ids import derived_id
from obitus.core.log_files.records import LogLine, record_of
from obitus.core.log_files.times import time_of
from obitus.reading.outcome import Outcome, Send

MOST_LINES: Final = 200
"""Most lines of one record; further lines are a record of their own."""
MOST_BYTES: Final = 64 * 1024
MOST_ATTRIBUTES: Final = 40
_GOES_ON = re.compile(r"[ \t]|[)\]}]|Caused by: |Traceback \(most recent call last\)|\.\.\. \d+ more")
_SAID: Final = frozenset(
    [
        "timestamp",
        "@timestamp",
        "@t",
        "time",
        "ts",
        "datetime",
        "date",
        "asctime",
        "eventtime",
        "level",
        "levelname",
        "severity",
        "severitytext",
        "lvl",
        "log.level",
        "@l",
        "message",
        "msg",
        "@m",
        "event",
        "text",
    ]
)
_LOGGERS: Final = ("logger", "logger_name", "name", "log.logger", "loggerName")


class LinesOfFile:
    """Makes a log record of each record of a file. The last record waits for further lines, until the file ends."""

    def __init__(
        self, outcome: Outcome, send: Send | None, identity: str, name: str, start: int, written_ms: int, zone: tzinfo
    ) -> None:
        self._outcome, self._send, self._identity, self._name = outcome, send, identity, name
        self._written_ms, self._zone = written_ms, zone
        self._rest = b""
        self._place = start
        """Offset of ``_rest``."""
        self._waiting: list[str] = []
        self._waiting_at = start
        self._waiting_bytes = 0
        self._in_trace = False
        self._last_ms: int | None = None

    @property
    def settled(self) -> int:
        """Offset up to which every record was made."""
        return self._waiting_at if self._waiting else self._place

    def feed(self, block: bytes, *, end: bool = False) -> None:
        """Read on."""
        data = self._rest + block
        place = self._place
        pieces = data.split(b"\n")
        self._rest = pieces.pop()
        for piece in pieces:
            self._line(piece, place)
            place += len(piece) + 1
        if len(self._rest) > MOST_BYTES or (end and self._rest):
            self._line(self._rest, place)
            place += len(self._rest)
            self._rest = b""
        self._place = place
        if end:
            self._make()

    def _line(self, piece: bytes, place: int) -> None:
        line = piece[:MOST_BYTES].decode("utf-8", "replace").rstrip("\r")
        if self._waiting and self._goes_on(line):
            self._waiting.append(line)
            self._waiting_bytes += len(piece)
            return
        self._make()
        if line.strip():
            self._waiting, self._waiting_at, self._waiting_bytes = [line], place, len(piece)
            self._in_trace = False

    def _goes_on(self, line: str) -> bool:
        """Whether a line belongs to the waiting record."""
        if len(self._waiting) >= MOST_LINES or self._waiting_bytes > MOST_BYTES:
            return False
        if _GOES_ON.match(line):
            self._in_trace = self._in_trace or line.startswith("Traceback")
            return not line.startswith("{") and (line[0] not in " \t" or record_of(line.lstrip()) is None)
        # The last line of a trace is not indented, and has neither time nor severity.
        return self._in_trace and bool(line.strip()) and record_of(line) is None

    def _make(self) -> None:
        """Make a record of the waiting lines."""
        if not self._waiting:
            return
        text, place = "\n".join(self._waiting), self._waiting_at
        self._waiting = []
        self._outcome.records += 1
        if self._send is None:
            return
        first, _, more = text.partition("\n")
        record = record_of(first) or LogLine("", "", first)
        at_ms = time_of(record.time, self._zone, self._written_ms) if record.time else None
        # A line without a time is not earlier than the one before.
        self._last_ms = at_ms if at_ms is not None else self._last_ms
        when = min(self._last_ms if self._last_ms is not None else self._written_ms, int(time.time() * 1000))
        attributes: dict[str, Any] = {"log.file.name": short(self._name)}
        logger = ""
        if first.startswith("{"):
            found, logger = _fields(first)
            attributes |= found
        report = {
            "kind": "log",
            "id": derived_id(0, self._identity, place, "line", text),
            "time": to_text(when),
            "severity": record.severity or "INFO",
            "message": long(f"{record.message}\n{more}" if more else record.message),
            "attributes": attributes,
        }
        self._send(report | {"logger": logger} if logger else report)


def _fields(text: str) -> tuple[dict[str, Any], str]:
    """Return the other fields of a record written as JSON, as attributes, and its logger."""
    try:
        fields = json.loads(text)
    except (ValueError, RecursionError):
        return {}, ""
    if not isinstance(fields, dict):
        return {}, ""
    logger = next((fields[name] for name in _LOGGERS if isinstance(fields.get(name), str)), "")
    attributes = {
        short(name): value if not isinstance(value, str) else long(value)
        for name, value in fields.items()
        if name.lower() not in _SAID and name not in _LOGGERS and isinstance(value, str | int | float | bool)
    }
    return dict(list(attributes.items())[:MOST_ATTRIBUTES]), short(logger)
