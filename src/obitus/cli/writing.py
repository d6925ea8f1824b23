"""What a command writes into a file of the user's."""

from __future__ import annotations

from pathlib import Path

from obitus.cli.errors import UsageTrouble
from obitus.cli.show import say


def write_file(path: Path, text: str) -> None:
    """Write a text to a file and say so; raises UsageTrouble, with the reason, where that cannot be done."""
    try:
        path.write_text(text, "utf-8")
    except OSError as error:
        raise UsageTrouble(f"{path} cannot be written: {error.strerror}.") from error
    say(f"Written to {path}.")
