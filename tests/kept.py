"""What a service has kept of the reports it took, for tests to look at."""

from __future__ import annotations

import json
from typing import Any

from obitus.core.days import seq_of
from obitus.service.wiring import Parts
from obitus.store.days.reading import DayReaders

_PLACES = """
SELECT place, kind FROM (SELECT place, kind FROM evidence UNION ALL SELECT place, 'log' AS kind FROM logs)
WHERE ?1 IS NULL OR kind = ?1 ORDER BY place"""


def numbers(days: DayReaders, kind: str | None = None) -> list[int]:
    """Return the numbers of the reports of a kind, or of all, day by day in the order they came."""
    return [
        seq_of(day, row["place"])
        for day in sorted(known.day for known in days.known())
        for row in days.rows(day, _PLACES, (kind,))
    ]


def reports(service: Parts, kind: str | None = None) -> list[dict[str, Any]]:
    """Return the reports of a kind, or of all."""
    return [json.loads(service.records.evidence.read(seq)) for seq in numbers(service.records.days, kind)]


def ids(days: DayReaders) -> list[str]:
    """Return the id of each report, as 32 hexadecimal digits; one that is there twice stands there twice."""
    return [row["id"].hex() for known in days.known() for row in days.rows(known.day, "SELECT id FROM ids")]
