"""Sending reports of files: in batches, with retries where the service is busy, counting refused ones."""

from __future__ import annotations

import gzip
import json
import time
from datetime import UTC, datetime
from typing import Any, Final

import urllib3

from obitus.core.version import media_type
from obitus.reading.troubles import KeyNotTaken, SendingRefused, ServiceAway

BATCH_REPORTS: Final = 500
BATCH_BYTES: Final = 4 * 1024 * 1024
TRIES: Final = 6
MOST_REASONS: Final = 5


class Sending:
    """One service and reporting key. Reports passed to ``add`` are on the service's disk when ``flush`` returns.
    ``corrects`` says whether this machine's clock made the times: then the service corrects a wrong clock.
    """

    def __init__(self, url: str, key: str, *, corrects: bool = True) -> None:
        self._corrects = corrects
        self._url = url.rstrip("/")
        self._key = key
        self._pool = urllib3.PoolManager(retries=False, timeout=urllib3.Timeout(60.0))
        self._lines: list[bytes] = []
        self._bytes = 0
        self.stored = 0
        self.already_there = 0
        self.refused = 0
        self.reasons: list[str] = []

    def add(self, report: dict[str, Any]) -> None:
        """Send a report with its batch; raises a SendingTrouble where the service does not accept it."""
        self.add_line(json.dumps(report, ensure_ascii=False).encode("utf-8", "replace"))

    def add_line(self, line: bytes) -> None:
        """The same for a report that is a line of JSON already."""
        self._lines.append(line)
        self._bytes += len(line)
        if len(self._lines) >= BATCH_REPORTS or self._bytes >= BATCH_BYTES:
            self.flush()

    def flush(self) -> None:
        """Send waiting reports."""
        if not self._lines:
            return
        body = gzip.compress(b"\n".join(self._lines), 1)
        self._lines, self._bytes = [], 0
        for turn in range(TRIES):
            try:
                answer = self._pool.request(
                    "POST",
                    f"{self._url}/reports",
                    body=body,
                    headers={
                        "Authorization": f"Bearer {self._key}",
                        "Content-Type": media_type("read"),
                        "Content-Encoding": "gzip",
                        **({"Obitus-Clock": datetime.now(UTC).isoformat()} if self._corrects else {}),
                    },
                )
            except (urllib3.exceptions.HTTPError, ValueError) as error:
                trouble = f"{self._url} cannot be reached: {getattr(error, 'reason', None) or error}"
            else:
                if answer.status in (200, 422):
                    self._count(json.loads(answer.data))
                    return
                if answer.status in (401, 403):
                    raise KeyNotTaken(str(_detail(answer)))
                trouble = _detail(answer)
                if answer.status not in (429, 500, 502, 503, 504, 507):
                    raise SendingRefused(trouble)
            time.sleep(min(8.0, 0.25 * 2**turn))
        raise ServiceAway(f"{trouble}. The lines before were stored; read again to continue.")

    def _count(self, answer: dict[str, Any]) -> None:
        self.stored += answer.get("stored", 0)
        self.already_there += answer.get("already_there", 0)
        self.refused += answer.get("refused", 0)
        for line in answer.get("lines", ()):
            if (
                line["verdict"] == "refused"
                and len(self.reasons) < MOST_REASONS
                and line.get("reason") not in self.reasons
            ):
                self.reasons.append(str(line.get("reason")))


def _detail(answer: urllib3.BaseHTTPResponse) -> str:
    try:
        return str(json.loads(answer.data).get("detail"))
    except (ValueError, AttributeError):
        return f"the service answered with status {answer.status}"
