"""Log files as ``obitus read`` reads them: each stack trace becomes a failure, with the lines before it as its trail."""

from __future__ import annotations

import time
from datetime import tzinfo
from pathlib import Path
from typing import Final

from obitus.cli.reading import Outcome, Send
from obitus.core.clock import to_text
from obitus.core.grouping.groups import Groups
from obitus.core.headline import headline_of
from obitus.core.ids import derived_id
from obitus.core.log_files.stacks import Found, Scanner
from obitus.core.log_files.times import time_of
from obitus.core.stacks import report_form
from obitus.core.stacks.lines import CUT_OFF
from obitus.core.stacks.prefixes import prefix_of

BEFORE_BYTES: Final = 32 * 1024
BEHIND_BYTES: Final = 256 * 1024
"""What a part of a log file is read beyond its ends: what led up to a trace, and the longest trace that may lie across."""

Part = tuple[int, list[Found]]


class Titles:
    """The issues that one call of the command made out, by title."""

    def __init__(self) -> None:
        self._groups = Groups()
        self._titles: dict[int, str] = {}

    def add(self, found: Found) -> str:
        """Return the title of the issue that this trace belongs to."""
        group, decided, _ = self._groups.add(found.stack.chain)
        title = self._titles.setdefault(group, headline_of(found.stack.chain, decided.fault).title)
        return f"{title} (g{group})"


class LogFile:
    """One log file, read from ``start`` on; a trace that its last line cut off waits for what follows."""

    def __init__(
        self, outcome: Outcome, titles: Titles, send: Send, identity: str, start: int, written_ms: int, zone: tzinfo
    ) -> None:
        self._outcome, self._titles, self._send = outcome, titles, send
        self._identity, self._written_ms, self._zone = identity, written_ms, zone
        self._start(start)

    def _start(self, start: int) -> None:
        self._scanner = Scanner(start)

    @property
    def settled(self) -> int:
        """Up to where everything is told."""
        return self._scanner.settled

    def feed(self, block: bytes, *, end: bool = False) -> None:
        """Read on."""
        for found in self._scanner.feed(block, end=end):
            self._failure(found)
        self._outcome.lines += block.count(b"\n")

    @staticmethod
    def part(name: str, start: int, end: int, zone: tzinfo, written_ms: int) -> Part:
        """Return how many lines a part of a log file has, and the traces that begin in it; these may end behind it."""
        with Path(name).open("rb") as opened:
            first = max(0, start - BEFORE_BYTES)
            opened.seek(first)
            data = opened.read(end + BEHIND_BYTES - first)
        cut = data.find(b"\n") + 1 if first else 0
        scanner = Scanner(first + cut)
        found = list(scanner.feed(data[cut:] if cut else data, end=True))
        return data.count(b"\n", start - first, end - first), [one for one in found if start <= one.offset < end]

    def take(self, part: Part, start: int, end: int) -> None:
        """Take over what another process read; the next part begins at ``end``."""
        lines, found = part
        self._outcome.lines += lines
        for one in found:
            self._failure(one)
        self._start(end)

    def _failure(self, found: Found) -> None:
        """Make a failure of a stack trace, with the lines before it as what led up to it."""
        time_ms = time_of(found.time, self._zone, self._written_ms) if found.time else None
        when = min(time_ms if time_ms is not None else self._written_ms, int(time.time() * 1000))
        chain = found.stack.chain
        self._outcome.failures += 1
        self._outcome.cut_off += chain[0].type == CUT_OFF
        self._outcome.issues[self._titles.add(found)] += 1
        trail = []
        for line in found.before:
            prefix = prefix_of(line)
            at = time_of(prefix.time, self._zone, self._written_ms) if prefix is not None and prefix.time else None
            trail.append(
                {
                    "kind": "log",
                    "time": to_text(min(at if at is not None else when, when)),
                    "severity": _severity(prefix.level if prefix else ""),
                    "message": line[prefix.length if prefix else 0 :][:2000],
                }
            )
        severity = _severity(found.level)
        self._send(
            {
                "kind": "failure",
                "id": derived_id(0, self._identity, found.offset, found.text),
                "time": to_text(when),
                "severity": severity if severity in ("WARN", "ERROR", "FATAL") else "ERROR",
                "handled": True,
                "captured_by": "log file",
                "exceptions": report_form(chain),
                "trail": trail,
                "attributes": {"log.file.language": found.stack.language},
            }
        )


def _severity(level: str) -> str:
    return {"WARNING": "WARN", "CRITICAL": "FATAL", "CRIT": "FATAL", "SEVERE": "ERROR", "ERR": "ERROR", "ALERT": "FATAL", "EMERG": "FATAL",
            "NOTICE": "INFO", "CONFIG": "DEBUG", "FINE": "DEBUG", "FINER": "TRACE", "FINEST": "TRACE", "": "INFO"}.get(level, level)  # fmt: skip
