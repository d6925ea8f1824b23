"""Writing a command's output to a file."""

from __future__ import annotations

from pathlib import Path

from obitus.cli.errors import UsageTrouble
from obitus.cli.show import say


def write_file(path: Path, text: str) -> None:
    """Write a text to a file and print its path; raises UsageTrouble, with the reason, where that fails."""
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise UsageTrouble(f"{path} cannot be written: {error.strerror}.") from error
    say(f"Written to {path}.")
