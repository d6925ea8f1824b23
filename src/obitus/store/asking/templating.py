"""Log records by the template of their message: its own one, or one that is found from many messages."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Final, NamedTuple

from obitus.core.asking.tree import Node
from obitus.core.days import seq_of
from obitus.core.mining import MOST_PATTERNS, Miner, Pattern, Template
from obitus.store.asking.compiling import Names
from obitus.store.asking.finding import LIMIT_S, names_in
from obitus.store.asking.going import Going, condition_of, newest_first
from obitus.store.database import Reader, typed
from obitus.store.days.reading import DayReaders

MOST_TEMPLATES: Final = 5_000
"""Most templates of records; further ones are counted together."""

_TEXT: Final = "SELECT text FROM texts WHERE id = ?"
_ITS_OWN: Final = "message IS NOT NULL AND filled = ''"
_GROUPED: Final = (
    f"SELECT template, message, MAX(severity) AS severity, COUNT(*) AS n, MAX(place) AS place FROM "  # noqa: S608 - constants
    f"(SELECT CASE WHEN {_ITS_OWN} THEN message WHEN template_id <> 0 THEN template_id END AS template, "
    f"CASE WHEN ({_ITS_OWN}) OR template_id <> 0 THEN NULL WHEN message IS NOT NULL THEN message ELSE message_id END AS message, "
    "severity, place FROM logs WHERE "
)
_BY: Final = ") GROUP BY template, message"


class _Row(NamedTuple):
    """Log records of one template, or of one message without one."""

    template: int | str | None
    message: int | str | None
    severity: int
    n: int
    place: int


@dataclass(slots=True)
class TemplateCount:
    """Log records that differ only in their values."""

    text: str
    records: int = 0
    severity: int = 0
    """The worst of them: 0 TRACE to 5 FATAL."""
    latest: int = 0
    """The number of one of the latest of them."""
    found: bool = False
    """Whether the template was found, not reported with the records."""

    def add(self, severity: int, n: int, latest: int) -> None:
        """Add records."""
        self.records += n
        self.severity = max(self.severity, severity)
        self.latest = max(self.latest, latest)


@dataclass(slots=True)
class Templated:
    """The records read so far."""

    going: Going
    records: int = 0
    beyond: int = 0
    """Records with further templates."""
    _own: dict[str, TemplateCount] = field(default_factory=dict)
    _without: dict[Pattern, TemplateCount] = field(default_factory=dict)
    _miner: Miner = field(default_factory=Miner)

    def add(self, template: str | None, message: str, severity: int, n: int, latest: int) -> None:
        """Count records of one template, or (None) of one message without one."""
        self.records += n
        if template is None:
            pattern = self._miner.add(message, n)
            count = self._without.get(pattern)
            if count is None and len(self._without) < 2 * MOST_PATTERNS:
                count = self._without[pattern] = TemplateCount("")
            if count is not None:
                count.add(severity, n, latest)
            return
        kind = self._own.get(template)
        if kind is None:
            if len(self._own) >= MOST_TEMPLATES:
                self.beyond += n
                return
            kind = self._own[template] = TemplateCount(template)
        kind.add(severity, n, latest)

    def commonest(self, most: int) -> tuple[list[TemplateCount], int]:
        """Return the templates that most records have, and how many there are in all."""
        templates = [*self._own.values(), *map(self._of_found, self._miner.templates())]
        templates.sort(key=lambda kind: (-kind.records, kind.text))
        return templates[:most], len(templates)

    def _of_found(self, template: Template) -> TemplateCount:
        kind = TemplateCount(template.text, found=True)
        kind.records = template.count
        for pattern in template.patterns:
            # Patterns that were merged meanwhile are not known separately any more.
            count = self._without.get(pattern)
            if count is not None:
                kind.severity, kind.latest = max(kind.severity, count.severity), max(kind.latest, count.latest)
        return kind


def templates(
    reader: Reader, days: DayReaders, node: Node | None, from_ms: int, to_ms: int, *, limit_s: float = LIMIT_S
) -> Iterator[Templated]:
    """Yield the records read so far: always the same object, which grows. Newest records are read first."""
    templated = Templated(Going(from_ms, to_ms))
    names = names_in(reader)
    for _ in newest_first(days, templated.going, limit_s, lambda c, day: _OfDay(c, day, node, names, templated)):
        yield templated


class _OfDay:
    """Reads the logs of one day file."""

    def __init__(
        self, connection: sqlite3.Connection, day: int, node: Node | None, names: Names, into: Templated
    ) -> None:
        self._connection, self._day, self._into = connection, day, into
        where, self._params, self.is_narrow = condition_of(connection, "log", node, names)
        self._sql = f"{_GROUPED}{where}{_BY}"
        self._texts: dict[int, str] = {}

    def add(self, from_ms: int, to_ms: int) -> None:
        """Read what lies between two times."""
        for row in typed(self._connection.execute(self._sql, (from_ms, to_ms, *self._params)), _Row):
            template = None if row.template is None else self._text(row.template)
            self._into.add(template, self._text(row.message), row.severity, row.n, seq_of(self._day, row.place))

    def _text(self, text: Any) -> str:
        if not isinstance(text, int):
            return text or ""
        text_found = self._texts.get(text)
        if text_found is None:
            row = self._connection.execute(_TEXT, (text,)).fetchone()
            text_found = self._texts[text] = row[0] if row else ""
        return text_found
