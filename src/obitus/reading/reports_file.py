"""``obitus send FILE…``: sends reports that were written to files where there was no network."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import IO, Final

from obitus.reading.files import PACKED, open_file
from obitus.reading.marks import HEAD_BYTES, Marks
from obitus.reading.sending import Sending

MOST_LINE: Final = 1024 * 1024
KEPT_EVERY: Final = 2000
"""The position in a file is stored after so many reports."""
MOST_EXAMPLES: Final = 5


@dataclass(slots=True)
class Outcome:
    """The result."""

    files: int = 0
    reports: int = 0
    known_before: int = 0
    """Bytes that were sent before."""
    unreadable: int = 0
    examples: list[str] = field(default_factory=list)
    """Invalid lines: where, and why."""


def send_files(names: list[str], sending: Sending, marks: Marks) -> Outcome:
    """Send the reports of files, each once, however often this is called; raises ReadingTrouble, SendingTrouble.

    An incomplete last line is left for the next call. ``sending`` counts refused reports.
    """
    outcome = Outcome()
    for name in names:
        with ExitStack() as stack:
            opened, size, _ = open_file(name, stack)
            outcome.files += 1
            _send_file(name, opened, size, sending, marks, outcome)
    return outcome


def _send_file(name: str, opened: IO[bytes], size: int, sending: Sending, marks: Marks, outcome: Outcome) -> None:
    head = opened.read(HEAD_BYTES)
    identity = marks.identity_of(head)
    # The size of a compressed file, and of standard input, is not known: the ids make sending again harmless.
    at = marks.place_of(identity, size) if size != PACKED else 0
    outcome.known_before += at
    rest = b"" if at >= len(head) else head[at:]
    if at > len(head):
        opened.seek(at)
    number = 0
    since_kept = 0
    while True:
        end = rest.find(b"\n")
        if end < 0:
            piece = opened.read(256 * 1024)
            if not piece:
                break
            rest += piece
            if len(rest) > MOST_LINE and b"\n" not in rest:
                at, rest = _pass_over(name, opened, rest, at, number + 1, outcome)
            continue
        line, rest = rest[:end].strip(), rest[end + 1 :]
        at += end + 1
        number += 1
        if not line:
            continue
        if not line.startswith(b"{"):
            _unreadable(outcome, name, number, "no report in JSON")
            continue
        sending.add_line(line)
        outcome.reports += 1
        since_kept += 1
        if since_kept >= KEPT_EVERY:
            _keep(sending, marks, identity, at, size, head)
            since_kept = 0
    _keep(sending, marks, identity, at, size, head)


def _keep(sending: Sending, marks: Marks, identity: str, at: int, size: int, head: bytes) -> None:
    sending.flush()
    if size != PACKED:
        marks.set(identity, at, head)


def _pass_over(name: str, opened: IO[bytes], rest: bytes, at: int, number: int, outcome: Outcome) -> tuple[int, bytes]:
    """Skip a line that is longer than any report; return where the next one begins, and the part of it that was read."""
    _unreadable(outcome, name, number, "longer than any report")
    while True:
        end = rest.find(b"\n")
        if end >= 0:
            return at + end + 1, rest[end + 1 :]
        at += len(rest)
        rest = opened.read(256 * 1024)
        if not rest:
            return at, b""


def _unreadable(outcome: Outcome, name: str, number: int, why: str) -> None:
    outcome.unreadable += 1
    if len(outcome.examples) < MOST_EXAMPLES:
        outcome.examples.append(f"{name}, line {number}: {why}")
