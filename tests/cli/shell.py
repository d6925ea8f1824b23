"""A shell of its own, to run the command line in."""

from __future__ import annotations

import os
from pathlib import Path

from tests.cli import loaded


class Shell:
    """A shell with its own login file, settings and width."""

    def __init__(self, folder: Path) -> None:
        self._out, self._errors = folder / "command.out", folder / "command.errors"
        self.environment = {
            "PATH": os.environ["PATH"],
            "HOME": str(folder),
            "COLUMNS": "80",
            "OBITUS_LOGIN": str(folder / "login.json"),
        }

    def run(self, *arguments: str, status: int | None = 0, **environment: str) -> str:
        """Run a command that has to end with ``status``, None for any; return what it printed, errors included."""
        ended = loaded.run(arguments, self.environment | environment, self._out, self._errors, timeout_s=150)
        printed, errors = self._out.read_text("utf-8"), self._errors.read_text("utf-8")
        assert status is None or ended == status, (ended, printed, errors)
        assert "Traceback" not in errors
        return printed + errors


def words(text: str) -> str:
    """Return what was said as one line: where a terminal breaks lines means nothing."""
    return " ".join(text.split())
