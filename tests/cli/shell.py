"""A shell of its own, to run the command line in."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path


class Shell:
    """A shell with its own login file, settings and width."""

    def __init__(self, folder: Path) -> None:
        self.environment = {
            "PATH": os.environ["PATH"],
            "HOME": str(folder),
            "COLUMNS": "80",
            "OBITUS_LOGIN": str(folder / "login.json"),
        }

    def run(self, *arguments: str, status: int | None = 0, **environment: str) -> str:
        """Run a command that has to end with ``status``, None for any; return what it printed, errors included."""
        ended = subprocess.run(
            [sys.executable, "-m", "obitus", *arguments],
            env=self.environment | environment,
            capture_output=True,
            text=True,
            timeout=150,
        )
        assert status is None or ended.returncode == status, (ended.returncode, ended.stdout, ended.stderr)
        assert "Traceback" not in ended.stderr
        return ended.stdout + ended.stderr


def words(text: str) -> str:
    """Return what was said as one line: where a terminal breaks lines means nothing."""
    return " ".join(text.split())
