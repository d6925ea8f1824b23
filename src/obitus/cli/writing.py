"""Writing what a command makes: a document, or records, to a file or to standard output."""

from __future__ import annotations

import codecs
import sys
from collections.abc import Iterable
from pathlib import Path

from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.show import say


def write_file(path: Path, text: str) -> None:
    """Write a text to a file and print its path; raises UsageTrouble, with the reason, where that fails."""
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise UsageTrouble(f"{path} cannot be written: {error.strerror}.") from error
    say(f"Written to {path}.")


def print_whole(pieces: Iterable[bytes]) -> None:
    """Print a document or records. A file or a program gets them as they are, in UTF-8; for a terminal control codes are removed."""
    if not sys.stdout.isatty():
        for piece in pieces:
            sys.stdout.buffer.write(piece)
        sys.stdout.buffer.flush()
        return
    decoder = codecs.getincrementaldecoder("utf-8")("replace")
    for piece in pieces:
        sys.stdout.write(safe(decoder.decode(piece)))
