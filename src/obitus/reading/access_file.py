"""Access logs for ``obitus read``: counted in tallies, with whole runs of failed and refused requests."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from copy import copy
from datetime import tzinfo
from functools import partial
from pathlib import Path
from typing import Any, Final

from obitus.core.bounds import short
from obitus.core.clock import DAY_MS, to_text
from obitus.core.ids import derived_id
from obitus.core.log_files.common import Common
from obitus.core.log_files.requests import MOST_EXAMPLES, Counts, Request, Runs, outcome_of
from obitus.core.log_files.w3c import W3c
from obitus.core.own_attributes import ACCESS_LOG
from obitus.reading.outcome import READ_BYTES, Outcome, Send, block_end, block_start

NOT_WELL: Final = "it did not go well"
TO_COMPARE: Final = "healthy, to compare failing ones with"


class AccessFile:
    """One access log, read from ``start`` on; an incomplete last line waits for its rest. Its runs are reported
    block by block, each time a whole block under the same ids, so that nothing is counted twice. So reading begins
    at the beginning of the block that contains ``start``.
    """

    def __init__(
        self,
        outcome: Outcome,
        send: Send | None,
        form: str,
        identity: str,
        name: str,
        start: int,
        written_ms: int,
        zone: tzinfo,
    ) -> None:
        self._outcome, self._send, self._identity, self._name = outcome, send, identity, short(name)
        self._form = W3c() if form == "w3c" else Common(zone, written_ms)
        self._known = self.settled = start
        self.begin = block_start(start)
        self._rest = b""
        self._at = self.begin
        """Offset of the rest."""
        self._inside = self.begin > 0
        """Whether that is inside of a line, which belongs to the block before."""
        self._block = 0
        self._runs: Runs = Counter()
        self._reported: Runs = Counter()
        """The runs of this block, and the numbers reported already."""
        self._compared: set[tuple[int, str]] = set()
        """Days and entry points of this block with a reported healthy run."""
        self.pass_over: Callable[[bytes], None] | None = (
            partial(self._pass_over, self._form) if isinstance(self._form, W3c) else None
        )

    def _pass_over(self, form: W3c, block: bytes) -> None:
        """Read the fields that are named before the beginning."""
        data = self._rest + block
        cut = data.rfind(b"\n") + 1
        form.pass_over(data[:cut])
        self._rest = data[cut:]
        self._at = self.begin - len(self._rest)

    def feed(self, block: bytes, *, end: bool = False) -> None:
        """Read on."""
        data = self._rest + block
        cut = data.rfind(b"\n") + 1
        if cut == 0 and len(data) > 2 * READ_BYTES:
            # Such a line is not valid; it must not be kept for ever.
            cut = len(data)
        place = 0
        if self._inside and cut:
            place = data.find(b"\n") + 1 or cut
            if isinstance(self._form, W3c):
                self._form.pass_over(data[:place])
            self._inside, self._block = False, self._at + place
        while place < cut:
            start = self._at + place
            stop = data.find(b"\n", max(place, block_end(self._block) - self._at), cut) + 1 or cut
            if start < self._known:
                stop = min(stop, self._known - self._at)
                runs = self._form.read(data[place:stop], tells=False).runs
                self._runs.update(runs)
                self._reported.update(runs)
                self._compared.update((hour // DAY_MS, point) for hour, point, status in runs if status < 400)
            else:
                self._take(self._form.read(data[place:stop], tells=self._send is not None), start, self._at + stop)
            place = stop
        self._rest = data[cut:]
        self._at += cut
        if end:
            self.tell()

    def part(self, name: str, start: int, end: int) -> Callable[[], Counts]:
        """Return a reader of a part of the file, for another process; parts are read in order."""
        form = copy(self._form)
        if isinstance(self._form, W3c):
            with Path(name).open("rb") as opened:
                opened.seek(start)
                self._form.pass_over(opened.read(end - start))
        return partial(_read_part, name, start, end, form, tells=self._send is not None)

    def take(self, counts: Counts, start: int, end: int) -> None:
        """Take over the result of another process; reading continues at ``end``."""
        self._take(counts, start, end)
        self._rest, self._at = b"", end

    def _take(self, counts: Counts, start: int, end: int) -> None:
        """Make whole runs of failed and refused requests; a complete block is reported."""
        self._outcome.lines += counts.lines
        self._outcome.unreadable += counts.unreadable
        self._outcome.examples = (self._outcome.examples + counts.examples)[:MOST_EXAMPLES]
        self._outcome.runs_reported += counts.not_well
        if self._send is not None:
            for line in counts.whole_lines:
                request = line.form.request(line.line)
                if request is not None:
                    self._run(request, start + line.place, self._send, NOT_WELL)
            for which, line in counts.well.items():
                request = line.form.request(line.line) if which not in self._compared else None
                if request is not None:
                    self._compared.add(which)
                    self._outcome.compared += 1
                    self._run(request, start + line.place, self._send, TO_COMPARE)
        for (_, _, status), times in counts.runs.items():
            self._outcome.runs += times
            self._outcome.outcomes[outcome_of(status)] += times
        self._runs.update(counts.runs)
        self.settled = end
        if end > block_end(self._block):
            self.tell()
            self._block = end
            self._runs, self._reported = Counter(), Counter()
            self._compared = set()

    def tell(self) -> None:
        """Make tallies of the block's runs, where they have grown."""
        for (hour, point, status), times in self._runs.items():
            if self._send is None or self._reported[hour, point, status] == times:
                continue
            self._reported[hour, point, status] = times
            self._send(
                {
                    "kind": "tally",
                    "id": derived_id(hour, self._identity, self._block, f"{point} {status} {hour}"),
                    "time": to_text(hour),
                    "entry_point": point,
                    "outcome": outcome_of(status),
                    "status": status,
                    "runs": times,
                    "grows": True,
                }
            )

    def _run(self, request: Request, offset: int, send: Send, kept: str) -> None:
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
            ACCESS_LOG: self._name,
        }
        run: dict[str, Any] = {
            "id": report_id,
            "entry_point": request.entry_point,
            "started": to_text(request.time_ms),
            "outcome": request.outcome,
            "kept": kept,
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
                    "method": short(request.method),
                    "url": request.target,
                    "status": request.status,
                    "client": request.client,
                },
            }
        )


def _read_part(name: str, start: int, end: int, form: Common | W3c, *, tells: bool) -> Counts:
    with Path(name).open("rb") as opened:
        opened.seek(start)
        return form.read(opened.read(end - start), tells=tells)
