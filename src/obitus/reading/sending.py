"""Sending reports of files: in batches, with retries where the service is busy, counting refused ones."""

from __future__ import annotations

import gzip
import json
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any, Final

import urllib3

from obitus.core.version import AWAY_BEHIND_PROXY, media_type
from obitus.reading.troubles import KeyRefused, SendingRefused, ServiceAway

BATCH_REPORTS: Final = 500
BATCH_BYTES: Final = 4 * 1024 * 1024
TRIES: Final = 6
MOST_REASONS: Final = 5
AWAY: Final = (429, 500, 507, *AWAY_BEHIND_PROXY)
"""The answers of a service that has no time or no room, and those of a proxy before one that is away."""


class Sending:
    """One service and reporting key. Reports passed to ``add`` are on the service's disk when ``flush`` returns.
    ``corrects`` says whether this machine's clock made the times: then the service corrects a wrong clock. With ``away``
    a service that does not answer is waited for as long as it takes; it is called once for each time, with the reason.
    """

    def __init__(self, url: str, key: str, *, corrects: bool = True, away: Callable[[str], None] | None = None) -> None:
        self._corrects = corrects
        self._away = away
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
        lines, self._lines, self._bytes = self._lines, [], 0
        if lines:
            self._send(lines)

    def _send(self, lines: list[bytes]) -> None:
        """Send a batch; one that is too long for a proxy before the service, in halves."""
        answer = self._answer_to(gzip.compress(b"\n".join(lines), 1))
        if answer.status != 413:
            self._count(answer)
        elif len(lines) > 1:
            half = len(lines) // 2
            self._send(lines[:half])
            self._send(lines[half:])
        else:
            self._refuse(f"a report of {len(lines[0]):,} bytes is too long: {_detail(answer)}")

    def _answer_to(self, body: bytes) -> urllib3.BaseHTTPResponse:
        """Return the answer of a service that did something with a batch, after several tries; raises SendingTrouble."""
        turn = 0
        while True:
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
                    redirect=False,
                )
            except (urllib3.exceptions.HTTPError, ValueError) as error:
                trouble = f"{self._url} cannot be reached: {getattr(error, 'reason', None) or error}"
            else:
                if answer.status in (200, 413, 422):
                    return answer
                if answer.status in (401, 403):
                    raise KeyRefused(_detail(answer))
                trouble = _detail(answer)
                if answer.status not in AWAY:
                    raise SendingRefused(self._reason_of(answer))
            turn += 1
            if turn == TRIES:
                if self._away is None:
                    raise ServiceAway(f"{trouble}. The lines before were stored; read again to continue.")
                self._away(f"{trouble}.")
            time.sleep(min(8.0, 0.25 * 2**turn))

    def _reason_of(self, answer: urllib3.BaseHTTPResponse) -> str:
        to = answer.headers.get("Location")
        if 300 <= answer.status < 400 and to:
            return f"{self._url} leads on to {to}: set OBITUS_URL to where the service is."
        return _detail(answer)

    def _count(self, answer: urllib3.BaseHTTPResponse) -> None:
        try:
            counted = json.loads(answer.data)
            stored, already_there = counted["stored"], counted["already_there"]
        except (ValueError, KeyError, TypeError):
            why = f"something else than Obitus answers at {self._url}: look at OBITUS_URL."
            raise SendingRefused(_detail(answer) if answer.status == 422 else why) from None
        self.stored += stored
        self.already_there += already_there
        for line in counted.get("lines", ()):
            if line["verdict"] == "refused":
                self._refuse(str(line.get("reason")))

    def _refuse(self, reason: str) -> None:
        self.refused += 1
        if len(self.reasons) < MOST_REASONS and reason not in self.reasons:
            self.reasons.append(reason)


def _detail(answer: urllib3.BaseHTTPResponse) -> str:
    try:
        return str(json.loads(answer.data)["detail"])
    except (ValueError, KeyError, TypeError):
        return f"the service answered with status {answer.status}"
