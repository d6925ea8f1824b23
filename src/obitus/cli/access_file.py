"""Access logs as ``obitus read`` reads them: counted in tallies, and whole runs of what did not go well."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from datetime import tzinfo
from functools import partial
from importlib.util import find_spec
from pathlib import Path
from typing import Any, Final

from obitus.cli.reading import BLOCK_BYTES, MOST_EXAMPLES, Outcome, Send
from obitus.core.clock import to_text
from obitus.core.ids import derived_id
from obitus.core.log_files.common import Common
from obitus.core.log_files.requests import STEP_BYTES, Counts, Request, outcome_of
from obitus.core.log_files.w3c import W3c

AT_ONCE_BYTES: Final = 8 * 1024 * 1024
"""From how many bytes on it pays to load what reads many lines together; only the service's install has it."""


class AccessFile:
    """One access log, read from ``start`` on; a line that is not at its end yet waits for the rest."""

    def __init__(
        self,
        outcome: Outcome,
        send: Send | None,
        form: str,
        identity: str,
        start: int,
        size: int,
        written_ms: int,
        zone: tzinfo,
    ) -> None:
        self._outcome, self._send, self._identity = outcome, send, identity
        self._at_once = size - start > AT_ONCE_BYTES and find_spec("numpy") is not None
        self._form = W3c() if form == "w3c" else Common(zone, written_ms)
        self._form.at_once = self._at_once
        self._rest = b""
        self.settled = start
        self.pass_over: Callable[[bytes], None] | None = (
            partial(self._pass_over, self._form) if isinstance(self._form, W3c) else None
        )

    def _pass_over(self, form: W3c, block: bytes) -> None:
        """Take note of the fields that are named before the place where reading begins."""
        data = self._rest + block
        cut = data.rfind(b"\n") + 1
        form.pass_over(data[:cut])
        self._rest = data[cut:]

    def feed(self, block: bytes, *, end: bool = False) -> None:
        """Read on."""
        data = self._rest + block
        cut = data.rfind(b"\n") + 1
        if end and len(data) > 2 * BLOCK_BYTES:
            cut = len(data)
        piece, self._rest = data[:cut], data[cut:]
        if piece:
            self.take(self._form.read(piece), self.settled, self.settled + len(piece))

    def part(self, name: str, start: int, end: int) -> Callable[[], Counts]:
        """Return what reads a part of the file, in another process; parts are asked for in order."""
        form = copy(self._form)
        form.at_once = self._at_once
        if self._at_once:
            # Loaded here, it is there in every process.
            import obitus.core.log_files.columns_of  # noqa: F401
        # What is left behind the last part is short.
        self._form.at_once = False
        if isinstance(self._form, W3c):
            with Path(name).open("rb") as opened:
                opened.seek(start)
                self._form.pass_over(opened.read(end - start))
        return partial(_read_part, name, start, end, form)

    def take(self, counts: Counts, start: int, end: int) -> None:
        """Make tallies of what an access log's piece holds, and whole runs of what did not go well."""
        self._outcome.lines += counts.lines
        self._outcome.unreadable += counts.unreadable
        self._outcome.examples = (self._outcome.examples + counts.examples)[:MOST_EXAMPLES]
        self._outcome.runs_told += len(counts.told)
        if self._send is not None:
            for told in counts.told:
                request = told.form.request(told.line)
                if request is not None:
                    self._run(request, start + told.place, self._send)
        for (hour, point, status), times in counts.runs.items():
            outcome = outcome_of(status)
            self._outcome.runs += times
            self._outcome.outcomes[outcome] += times
            if self._send is None:
                continue
            self._send(
                {
                    "kind": "tally",
                    "id": derived_id(hour, self._identity, start, f"{end} {point} {status} {hour}"),
                    "time": to_text(hour),
                    "entry_point": point,
                    "outcome": outcome,
                    "status": status,
                    "runs": times,
                }
            )
        self.settled = end

    def _run(self, request: Request, offset: int, send: Send) -> None:
        report_id = derived_id(
            request.time_ms, self._identity, offset, f"{request.method} {request.target} {request.status}"
        )
        given = {
            "http.request.method": request.method,
            "url.path": request.target,
            "http.response.status_code": request.status,
            "http.response.detail_code": request.detail,
            "client.address": request.client,
            "user.id": request.user,
            "user_agent.original": request.agent,
            "http.request.header.referer": request.referrer,
            "http.response.body.size": request.bytes,
        }
        run: dict[str, Any] = {
            "id": report_id,
            "entry_point": request.entry_point,
            "started": to_text(request.time_ms),
            "outcome": request.outcome,
            "kept": "it did not go well",
        }
        if request.duration_ms is not None:
            run["duration_ms"] = request.duration_ms
        send(
            {
                "kind": "run",
                "id": report_id,
                "time": to_text(request.time_ms),
                "attributes": {name: value for name, value in given.items() if value not in ("", None)},
                "run": run,
                "request": {
                    "method": request.method[:300],
                    "url": request.target,
                    "status": request.status,
                    "client": request.client,
                },
            }
        )


def _read_part(name: str, start: int, end: int, form: Common | W3c) -> Counts:
    counts = Counts()
    with Path(name).open("rb") as opened:
        opened.seek(start)
        place = 0
        # As much at a time as stays near the processor.
        while piece := opened.read(min(STEP_BYTES, end - start - place)):
            if not piece.endswith(b"\n"):
                piece += opened.readline(end - start - place - len(piece))
            counts.add(form.read(piece), place)
            place += len(piece)
    return counts
