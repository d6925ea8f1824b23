"""Times at the beginning of log lines, in the forms that log writers use.

Sources: RFC 3339; the common log format of NCSA; RFC 3164 (a time without a year); Unix seconds, and their thousandths, millionths and billionths.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta, tzinfo
from functools import lru_cache
from typing import Final

from obitus.core.clock import to_ms

_MONTHS: Final = {
    name: n
    for n, name in enumerate(("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"), 1)
}
_CLOCK: Final = r"(?P<h>\d{2}):(?P<m>\d{2})(?::(?P<s>\d{2})(?:[.,](?P<f>\d{1,9}))?)?"
_ZONE: Final = r"(?: ?(?P<zone>Z|UTC|GMT|[+-]\d{2}:?\d{2}))?"
_FORMS: Final = (
    re.compile(rf"(?P<year>\d{{4}})[-/.](?P<month>\d{{2}})[-/.](?P<day>\d{{2}})(?:[T ]{_CLOCK})?{_ZONE}$"),
    re.compile(rf"(?P<day>\d{{1,2}})[/-](?P<month>[A-Za-z]{{3}})[/-](?P<year>\d{{4}})[: T]{_CLOCK}{_ZONE}$"),
    re.compile(rf"(?P<day>\d{{1,2}})[/-](?P<month>\d{{2}})[/-](?P<year>\d{{4}})[: T]{_CLOCK}{_ZONE}$"),
    re.compile(
        rf"(?:[A-Z][a-z]{{2}},? )?(?P<month>[A-Za-z]{{3}}) {{1,2}}(?P<day>\d{{1,2}}),? (?P<year>\d{{4}}),? {_CLOCK}{_ZONE}$"
    ),
    re.compile(
        rf"(?:[A-Z][a-z]{{2}},? )?(?P<month>[A-Za-z]{{3}}) {{1,2}}(?P<day>\d{{1,2}}) {_CLOCK}(?: (?P<year>\d{{4}}))?{_ZONE}$"
    ),
    re.compile(rf"{_CLOCK}{_ZONE}$"),
)
_UNIX = re.compile(r"(\d{10})(?:\.(\d{1,9})|(\d{3}(?:\d{3}){0,2}))?$")
_OFFSET = re.compile(r"([+-])(\d{2}):?(\d{2})$")


def time_of(text: str, zone: tzinfo, about_ms: int) -> int | None:
    """Return a written time as Unix milliseconds, or None where it is none.

    A time without a zone is in ``zone``. Without a day or a year it is the latest such time up to ``about_ms`` (when the file was last written), a day's grace included.
    """
    unix = _UNIX.match(text)
    if unix is not None:
        fraction = (unix[2] or unix[3] or "0")[:3].ljust(3, "0")
        return int(unix[1]) * 1000 + int(fraction)
    for form in _FORMS:
        match = form.match(text)
        if match is not None:
            try:
                return _read(match, zone, about_ms)
            except (ValueError, OverflowError):
                return None
    return None


def _read(match: re.Match[str], zone: tzinfo, about_ms: int) -> int:
    part = match.groupdict()
    about = datetime.fromtimestamp(about_ms / 1000, UTC).astimezone(zone)
    where = _zone(part["zone"]) if part.get("zone") else zone
    month_text = part.get("month")
    if month_text is None:
        month = about.month
    elif month_text.isdigit():
        month = int(month_text)
    elif (month := _MONTHS.get(month_text.lower(), 0)) == 0:
        raise ValueError(month_text)
    moment = datetime(
        int(part["year"]) if part.get("year") else about.year,
        month,
        int(part["day"]) if part.get("day") else about.day,
        int(part["h"] or 0),
        int(part["m"] or 0),
        min(59, int(part["s"] or 0)),
        int((part["f"] or "0")[:6].ljust(6, "0")),
        tzinfo=where,
    )
    latest = about + timedelta(days=1)
    if month_text is None and moment > latest - timedelta(hours=23):
        moment -= timedelta(days=1)
    elif month_text is not None and not part.get("year") and moment > latest:
        moment = moment.replace(year=moment.year - 1)
    return to_ms(moment)


@lru_cache(maxsize=64)
def _zone(text: str) -> tzinfo:
    offset = _OFFSET.match(text)
    if offset is None:
        return UTC
    minutes = int(offset[2]) * 60 + int(offset[3])
    return datetime.strptime(f"{offset[1]}{minutes // 60:02d}{minutes % 60:02d}", "%z").tzinfo or UTC
