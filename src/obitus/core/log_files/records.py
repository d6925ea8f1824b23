"""The fields of one line of a log: time, severity, text. From a prefix, from JSON, or from named values (``level=error``)."""

from __future__ import annotations

import json
import re
from typing import Final, NamedTuple

from obitus.core.severity import severity_of
from obitus.core.stacks.lines import MOST_LINE
from obitus.core.stacks.prefixes import prefix_of

_TIME_NAMES: Final = r"(?:@?timestamp|@t|time|ts|datetime|date|asctime|eventTime|__REALTIME_TIMESTAMP)"
_LEVEL_NAMES: Final = r"(?:level|levelname|severity|severityText|lvl|log\.level|@l|priority)"
_JSON_TIME = re.compile(rf'"{_TIME_NAMES}" *: *(?:"([^"]{{4,40}})"|(\d{{10,19}}(?:\.\d{{1,9}})?))', re.IGNORECASE)
_JSON_LEVEL = re.compile(rf'"{_LEVEL_NAMES}" *: *(?:"(\w{{1,12}})"|(\d{{1,2}})(?!\d))', re.IGNORECASE)
_JSON_TEXT = re.compile(r'"(?:message|msg|log|@m|event|text)" *: *("(?:[^"\\]|\\.)*+")', re.IGNORECASE)
_NAMED_TIME = re.compile(rf'(?:^|\s){_TIME_NAMES}=(?:"([^"]{{4,40}})"|(\S{{4,40}}))', re.IGNORECASE)
_NAMED_LEVEL = re.compile(rf'(?:^|\s){_LEVEL_NAMES}=(?:"(\w{{1,12}})|(\w{{1,12}}))', re.IGNORECASE)
_NAMED_TEXT = re.compile(r'(?:^|\s)(?:msg|message)=(?:"((?:[^"\\]|\\.)*+)"|(\S+))')

_OF_SYSTEM: Final = ("FATAL", "FATAL", "FATAL", "ERROR", "WARN", "INFO", "INFO", "DEBUG")
_IN_TENS: Final = {1: "TRACE", 2: "DEBUG", 3: "INFO", 4: "WARN", 5: "ERROR", 6: "FATAL"}


class LogLine(NamedTuple):
    """A parsed line: its time as written, its severity, and the rest; ``""`` where they are missing."""

    time: str
    severity: str
    message: str


def record_of(line: str) -> LogLine | None:
    """Return the fields of a log line; None where it has neither a time nor a severity."""
    text = line[:MOST_LINE]
    if text.startswith("{"):
        match = _JSON_TEXT.search(text)
        return _record(_JSON_TIME.search(text), _JSON_LEVEL.search(text), _unquoted(match[1]) if match else line)
    prefix = prefix_of(text)
    if prefix is not None:
        return LogLine(prefix.time, severity_of(prefix.level), line[prefix.length :])
    if "=" in text:
        match = _NAMED_TEXT.search(text)
        return _record(_NAMED_TIME.search(text), _NAMED_LEVEL.search(text), (match[1] or match[2]) if match else line)
    return None


def _record(time: re.Match[str] | None, level: re.Match[str] | None, message: str) -> LogLine | None:
    if time is None and level is None:
        return None
    return LogLine((time[1] or time[2]) if time else "", _severity(level[1] or level[2]) if level else "", message)


def _severity(level: str) -> str:
    """Return the severity of a level, which may be a number: of the system's log from 0, the most severe one, to 7
    (RFC 5424, section 6.2.1), or of loggers that count in tens, from 10 for the least severe one to 60.
    """
    if not level.isdecimal():
        return severity_of(level)
    number = int(level)
    return _OF_SYSTEM[number] if number < len(_OF_SYSTEM) else _IN_TENS.get(number // 10, "")


def _unquoted(value: str) -> str:
    try:
        return str(json.loads(value))
    except ValueError:
        return value[1:-1]
