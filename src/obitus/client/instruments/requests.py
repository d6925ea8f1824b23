"""What ASGI and WSGI requests have in common: bodies, addresses, outcomes, and their form in a report."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection
from functools import lru_cache
from typing import Any, Final
from urllib.parse import parse_qsl

from obitus.client.exception_origin import is_the_apps
from obitus.client.log import is_ours, warn
from obitus.core.bounds import short

MOST_BODY_BYTES: Final = 64 * 1024
MOST_HEADERS: Final = 60
MOST_HEADER_CHARS: Final = 2000
MOST_FIELDS: Final = 200
MOST_VALUE: Final = 2000
FAILED_STATUSES: Final = range(500, 600)

# ``{call:int}`` and ``<int:call>`` are how some frameworks write ``{call}``.
_BRACES = re.compile(r"\{(\w+):[^{}]+\}")
_ANGLES = re.compile(r"<(?:[^<>:(]++(?:\([^)<>]*+\))?+:)?(\w++)>")
_GROUPS = re.compile(r"\(\?P<(\w+)>(?:[^()]|\([^()]*\))*\)")


@lru_cache(2048)
def braces(route: str) -> str:
    """Return a route's template with its parameters as ``{name}``, however the framework writes them."""
    text = _ANGLES.sub(r"{\1}", _GROUPS.sub(r"{\1}", route))
    return _BRACES.sub(r"{\1}", text).strip("^").removesuffix("$").removesuffix("\\Z")


def outcome_of(status: int, failed: Collection[int]) -> str:
    """Return the outcome that a status stands for: 4xx are refused unless the app says that they count as failed."""
    if status in failed:
        return "failed"
    return "refused" if status >= 400 else "ok"


def ask_user(user: Callable[[Any], Any] | None, given: Any) -> str | None:
    """Call the app's own function for the user. If it raises, that is logged, and no user is named."""
    if user is None or is_ours():
        # On a thread of ours the app's function would not find its context.
        return None
    try:
        user_id = user(given)
        return None if user_id is None else short(str(user_id))
    except Exception as error:
        if is_the_apps(error):
            raise
        warn(f"Obitus: the function that names the user raised {type(error).__name__}: {error}")
        return None


class Body:
    """A copy of a body: its first bytes up to a limit, and its length."""

    __slots__ = ("_kept", "_limit", "_type", "announced", "total")

    def __init__(self, content_type: str, limit: int) -> None:
        self._type = short(content_type)
        self._limit = limit
        self._kept = bytearray()
        self.total = 0
        self.announced = 0
        """Its length by the client's header; 0 where there is none."""

    @property
    def start(self) -> bytes:
        """The kept bytes."""
        return bytes(self._kept)

    @property
    def kept(self) -> int:
        """The number of kept bytes."""
        return len(self._kept)

    @property
    def room(self) -> int:
        """The number of further bytes that would be kept."""
        return self._limit - len(self._kept)

    def add(self, chunk: bytes) -> None:
        """Add some bytes."""
        room = self._limit - len(self._kept)
        if room > 0:
            self._kept += chunk[:room]
        self.total += len(chunk)

    @property
    def is_unread(self) -> bool:
        """Whether the app read less of it than its length, and more would be kept."""
        return self.announced > self.total and self.room > 0

    def as_report(self, unread: bytes = b"") -> dict[str, Any] | None:
        """Return the body in the report's form, with the part that has arrived and was not read; None when there was none."""
        body = (
            bytes(self._kept) + unread[: min(self.room, self.announced - self.total)] if unread else bytes(self._kept)
        )
        if not body:
            return None
        kind = self._type.partition(";")[0].strip().lower()
        total = max(self.total, self.announced)
        described: dict[str, Any] = {"type": self._type, "bytes": total}
        cut = total > len(body)
        if cut:
            described["cut"] = True
        data = body
        try:
            if kind == "multipart/form-data":
                described |= _multipart(self._type, data)
            elif kind == "application/x-www-form-urlencoded":
                described["form"] = pairs(data.decode("utf-8", "replace"))
            elif is_json(kind) and not cut:
                described["json"] = json.loads(data)
            elif is_text(kind):
                described["text"] = data.decode("utf-8", "replace")
        except Exception as error:
            if is_the_apps(error):
                raise
            # Not of the type that it names: then its text is better than nothing.
            described["text"] = data.decode("utf-8", "replace")
        return described


def pairs(query: str) -> list[list[str]]:
    """Return the names and values of a query string or a form, in order."""
    found = parse_qsl(query, keep_blank_values=True, max_num_fields=10 * MOST_FIELDS)
    return [[short(name), value[:MOST_VALUE]] for name, value in found[:MOST_FIELDS]]


def is_json(kind: str) -> bool:
    """Whether a media type is JSON (RFC 6839: or ends in +json)."""
    return kind == "application/json" or kind.endswith("+json")


def is_text(kind: str) -> bool:
    """Whether a media type can be shown as text."""
    return kind.startswith("text/") or is_json(kind) or kind.endswith(("/xml", "+xml", "/javascript", "/x-ndjson"))


def _multipart(content_type: str, data: bytes) -> dict[str, Any]:
    """Return the fields of a form with files; of files only the names."""
    import email.parser

    head = b"Content-Type: " + content_type.encode("latin-1", "replace") + b"\r\n\r\n"
    message = email.parser.BytesParser().parsebytes(head + data)
    fields: list[list[str]] = []
    files: list[dict[str, Any]] = []
    parts = message.get_payload() if message.is_multipart() else []
    for part in list(parts)[:MOST_FIELDS]:
        name = short(str(part.get_param("name", "", header="content-disposition")))
        content = part.get_payload(decode=True) or b""
        file = part.get_filename()
        if file is None:
            fields.append([name, content.decode("utf-8", "replace")[:MOST_VALUE]])
        else:
            files.append({"name": name, "file": short(file), "type": part.get_content_type(), "bytes": len(content)})
    return {"form": fields, "files": files} if files else {"form": fields}
