"""Records as syslog messages (RFC 5424), and how these are framed on streams (RFC 6587, octet counting)."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any, Final

from obitus.core.severity import SEVERITIES

FACILITIES: Final = {"user": 1, "daemon": 3, **{f"local{number}": 16 + number for number in range(8)}}
LEVELS: Final = dict(zip(SEVERITIES, (7, 7, 6, 4, 3, 2), strict=True))
"""RFC 5424, 6.2.1: debug, informational, warning, error, critical."""
ENTERPRISE: Final = "obitus@32473"
"""The name of our structured data; 32473 is the number that RFC 5612 keeps for examples and the like."""
MOST_BYTES: Final = 8192
"""A message is cut there; RFC 5424, 6.1, asks receivers to take 2,048 bytes."""
_PRINTED: Final = re.compile(r"[^\x21-\x7e]")
_FIELDS: Final = ("kind", "app", "environment", "release", "entry_point", "type", "trace_id", "number", "id")


def message(record: Mapping[str, Any], facility: str) -> bytes:
    """Return a record as one syslog message, without a frame."""
    severity = str(record.get("severity") or "INFO")
    priority = FACILITIES[facility] * 8 + LEVELS.get(severity, 6)
    host = _name(record.get("attributes", {}).get("host.name"), 255)
    process = _name(record.get("attributes", {}).get("process.pid"), 128)
    head = f"<{priority}>1 {record.get('time') or '-'} {host} {_name(record.get('app'), 48)} {process} {_name(record.get('kind'), 32)}"
    data = " ".join(f'{name}="{_escaped(str(record[name]))}"' for name in _FIELDS if record.get(name) not in (None, ""))
    text = said(record)
    # The mark at the beginning says that the text is UTF-8 (RFC 5424, 6.4).
    whole = f"{head} [{ENTERPRISE} {data}] ".encode() + b"\xef\xbb\xbf" + text.encode("utf-8", "replace")
    return whole if len(whole) <= MOST_BYTES else whole[:MOST_BYTES].decode("utf-8", "ignore").encode()


def framed(messages: list[bytes]) -> bytes:
    """Return messages for a stream: each after its length in bytes."""
    return b"".join(b"%d %s" % (len(one), one) for one in messages)


def said(record: Mapping[str, Any]) -> str:
    """Return the text of a record, on one line."""
    kind = record.get("kind")
    if kind == "failure":
        outermost = (record.get("exceptions") or [{}])[0]
        text = f"{outermost.get('type', '')}: {outermost.get('message', '')}"
    elif kind == "run":
        run = record.get("run") or {}
        text = f"{run.get('entry_point', '')} {run.get('outcome', '')} in {run.get('duration_ms', 0)} ms"
    else:
        text = str(
            record.get("message") or record.get("title") or json.dumps(dict(record), ensure_ascii=False, default=str)
        )
    return " ".join(text.split())


def _name(value: Any, most: int) -> str:
    """Return a name for the header: printable ASCII, `-` for none."""
    return _PRINTED.sub("_", str(value))[:most] if value not in (None, "") else "-"


def _escaped(text: str) -> str:
    return re.sub(r'(["\\\]])', r"\\\1", "".join(sign if sign.isprintable() else " " for sign in text))[:1000]
