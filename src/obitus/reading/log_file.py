"""Log files for ``obitus read``: each stack trace becomes a failure, with the lines before it as its trail."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import tzinfo
from functools import partial
from pathlib import Path
from typing import Final

from obitus.core.bounds import medium
from obitus.core.clock import to_text
from obitus.core.frames import ChainLink
from obitus.core.grouping.groups import Groups
from obitus.core.grouping.recipe import Fingerprint, fingerprint
from obitus.core.headline import headline_of
from obitus.core.ids import derived_id
from obitus.core.log_files.records import LogLine, record_of
from obitus.core.log_files.stacks import LoggedStack, Scanner
from obitus.core.log_files.times import time_of
from obitus.core.stacks import report_form
from obitus.core.stacks.lines import CUT_OFF
from obitus.reading.lines import LinesOfFile
from obitus.reading.outcome import STEP_BYTES, Outcome, Send

BEFORE_BYTES: Final = 32 * 1024
BEHIND_BYTES: Final = 256 * 1024
"""How far a part of a log file is read beyond its ends: for breadcrumbs, and for the longest trace across an end."""


@dataclass
class Issues:
    """The fingerprints of some traces: the count and the first trace of each, in order."""

    times: Counter[str] = field(default_factory=Counter)
    first: dict[str, tuple[Fingerprint, Sequence[ChainLink]]] = field(default_factory=dict)
    cut_off: int = 0

    def see(self, chain: Sequence[ChainLink]) -> None:
        """Add a trace."""
        issue = fingerprint(chain)
        self.times[issue.text] += 1
        self.first.setdefault(issue.text, (issue, chain))
        self.cut_off += chain[0].type == CUT_OFF


@dataclass
class LogFilePart:
    """The content of a part of a log file: lines, and the traces that begin in it, which may end after it."""

    lines: int
    issues: Issues
    found: list[LoggedStack]
    """The traces themselves, where they are to be sent."""


class Titles:
    """The issues that one call of the command found, by title."""

    def __init__(self) -> None:
        self._groups = Groups()
        self._titles: dict[str, str] = {}

    def of(self, issues: Issues) -> Counter[str]:
        """Return the titles of these traces' issues, with their counts."""
        counted: Counter[str] = Counter()
        for text, times in issues.times.items():
            title = self._titles.get(text)
            if title is None:
                key, chain = issues.first[text]
                group, _ = self._groups.place(text, key.traits)
                title = self._titles[text] = self._titles.setdefault(
                    f"g{group}", f"{headline_of(chain, key.fault).title} (g{group})"
                )
            counted[title] += times
        return counted


class LogFile:
    """One log file, read from ``start`` on; a trace at the end waits for further lines."""

    pass_over: Callable[[bytes], None] | None = None

    def __init__(
        self,
        outcome: Outcome,
        titles: Titles,
        send: Send | None,
        identity: str,
        start: int,
        written_ms: int,
        zone: tzinfo,
        lines: LinesOfFile | None = None,
    ) -> None:
        self._lines = lines
        self._outcome, self._titles, self._send = outcome, titles, send
        self._identity, self._written_ms, self._zone = identity, written_ms, zone
        self.begin = start
        self._scanner = Scanner(start)

    @property
    def settled(self) -> int:
        """Offset up to which everything is reported."""
        return self._scanner.settled if self._lines is None else min(self._scanner.settled, self._lines.settled)

    def feed(self, block: bytes, *, end: bool = False) -> None:
        """Read on."""
        if self._lines is not None:
            self._lines.feed(block, end=end)
        issues = Issues()
        for stack in self._scanner.feed(block, end=end):
            issues.see(stack.stack.chain)
            self._failure(stack)
        self._count(block.count(b"\n"), issues)

    def tell(self) -> None:
        """A trace is reported as soon as it is complete."""

    def part(self, name: str, start: int, end: int) -> Callable[[], LogFilePart]:
        """Return a reader of a part of the file, for another process."""
        return partial(_part, name, start, end, with_traces=self._send is not None)

    def take(self, part: LogFilePart, start: int, end: int) -> None:
        """Take over the result of another process; the next part begins at ``end``."""
        for found in part.found:
            self._failure(found)
        self._count(part.lines, part.issues)
        self._scanner = Scanner(end)

    def _count(self, lines: int, issues: Issues) -> None:
        self._outcome.lines += lines
        self._outcome.failures += issues.times.total()
        self._outcome.cut_off += issues.cut_off
        self._outcome.issues += self._titles.of(issues)

    def _failure(self, stack: LoggedStack) -> None:
        """Make a failure of a stack trace, with the lines before it as breadcrumbs."""
        if self._send is None:
            return
        time_ms = time_of(stack.time, self._zone, self._written_ms) if stack.time else None
        when = min(time_ms if time_ms is not None else self._written_ms, int(time.time() * 1000))
        chain = stack.stack.chain
        trail = []
        for line in stack.before:
            record = record_of(line) or LogLine("", "", line)
            at = time_of(record.time, self._zone, self._written_ms) if record.time else None
            trail.append(
                {
                    "kind": "log",
                    "time": to_text(min(at if at is not None else when, when)),
                    "severity": record.severity or "INFO",
                    "message": medium(record.message),
                }
            )
        self._send(
            {
                "kind": "failure",
                "id": derived_id(0, self._identity, stack.offset, stack.text),
                "time": to_text(when),
                "severity": stack.severity if stack.severity in ("WARN", "ERROR", "FATAL") else "ERROR",
                "handled": True,
                "captured_by": "log file",
                "exceptions": report_form(chain),
                "trail": trail,
                "attributes": {"log.file.language": stack.stack.language},
            }
        )


def _part(name: str, start: int, end: int, *, with_traces: bool) -> LogFilePart:
    part = LogFilePart(0, Issues(), [])
    with Path(name).open("rb") as opened:
        place = max(0, start - BEFORE_BYTES)
        opened.seek(place)
        place += len(opened.readline()) if place else 0
        scanner = Scanner(place)
        # Beyond the end only as far as traces that begin before it continue.
        while place < end + BEHIND_BYTES and not (place >= end + BEFORE_BYTES and scanner.settled >= end):
            # As much at a time as fits into the processor's cache.
            border = next(one for one in (end, end + BEFORE_BYTES, end + BEHIND_BYTES) if one > place)
            block = opened.read(min(STEP_BYTES, border - place))
            if place + len(block) < border:
                # Whole lines are not copied.
                block += opened.readline(border - place - len(block))
            part.lines += block.count(b"\n", max(0, start - place), max(0, end - place))
            place += len(block)
            for stack in scanner.feed(block, end=not block or place == end + BEHIND_BYTES):
                if start <= stack.offset < end:
                    part.issues.see(stack.stack.chain)
                    if with_traces:
                        part.found.append(stack)
            if not block:
                break
    return part
