"""An app of the line that really runs as long as the demo does, so that there is something to set tracepoints in."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from contextlib import suppress
from importlib import resources
from pathlib import Path
from typing import Final

import obitus

APP: Final = "ticketdesk"
ENDS_S: Final = 5.0


class TicketDesk:
    """The ticket desk in a process of its own, run from a folder of the demo."""

    def __init__(self, folder: Path, url: str, key: str) -> None:
        deployed = folder / "desk"
        shutil.copytree(
            Path(str(resources.files("obitus.demo").joinpath("desk"))),
            deployed,
            ignore=shutil.ignore_patterns("__pycache__"),
        )
        environment = {name: value for name, value in os.environ.items() if not name.startswith("OBITUS_")} | {
            "OBITUS_URL": url,
            "OBITUS_KEY": key,
            "OBITUS_TRACEPOINTS": "1",
            "OBITUS_SPOOL": str((folder / "spool").absolute()),
            "PYTHONPATH": str(Path(obitus.__file__).parents[1]),
        }
        self._process = subprocess.Popen(  # noqa: S603 - our own module
            [sys.executable, "-m", APP], cwd=deployed, env=environment, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL
        )

    def stop(self) -> None:
        """End it."""
        with suppress(OSError):
            self._process.communicate(timeout=ENDS_S)
        self._process.kill()
