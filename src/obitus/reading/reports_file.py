"""``obitus send FILE…``: sends reports that were written to files where there was no network."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import IO, Final

from obitus.reading.files import PACKED, Pieces, Pipe, open_file
from obitus.reading.marks import HEAD_BYTES, Marks
from obitus.reading.outcome import STEP_BYTES
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
    pieces = Pieces(opened)
    pipe = opened if isinstance(opened, Pipe) else None
    head = pieces.read(HEAD_BYTES)
    identity = marks.identity_of(head)
    # The size of a compressed file, and of standard input, is not known: the ids make sending again harmless.
    at = marks.place_of(identity, size) if size != PACKED else 0
    outcome.known_before += at
    rest = head[at:]
    if at > len(head):
        opened.seek(at)
    number = 0
    since_kept = 0
    is_too_long = False
    while True:
        *lines, rest = rest.split(b"\n")
        for line in lines:
            at += len(line) + 1
            number += 1
            report = line.strip()
            if is_too_long or len(line) > MOST_LINE:
                _unreadable(outcome, name, number, "longer than any report")
            elif report.startswith(b"{"):
                sending.add_line(report)
                outcome.reports += 1
                since_kept += 1
            elif report:
                _unreadable(outcome, name, number, "no report in JSON")
            is_too_long = False
        if since_kept >= KEPT_EVERY or (since_kept and pipe is not None):
            _keep(sending, marks, identity, at, size, head)
            since_kept = 0
        if len(rest) > MOST_LINE:
            # The end of such a line is looked for, and nothing of it is carried on.
            at += len(rest)
            rest, is_too_long = b"", True
        piece = pieces.read(STEP_BYTES)
        if not piece and (pipe is None or pipe.ended):
            break
        rest += piece
    _keep(sending, marks, identity, at, size, head)
    if pieces.is_damaged:
        _unreadable(outcome, name, number + 1, "the compressed file is cut off or damaged here")


def _keep(sending: Sending, marks: Marks, identity: str, at: int, size: int, head: bytes) -> None:
    sending.flush()
    if size != PACKED:
        marks.set(identity, at, head)


def _unreadable(outcome: Outcome, name: str, number: int, why: str) -> None:
    outcome.unreadable += 1
    if len(outcome.examples) < MOST_EXAMPLES:
        outcome.examples.append(f"{name}, line {number}: {why}")
