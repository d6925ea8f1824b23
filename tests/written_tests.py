"""Tests that were made of an issue, run as whoever got one would run it."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path


def run_test(folder: Path, name: str, text: str, app: Path) -> subprocess.CompletedProcess[str]:
    """Write such a test to a folder and run it, unedited, in a process of its own that can import from ``app``."""
    (folder / name).write_text(text)
    return subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-o", "addopts=", "-p", "no:cacheprovider", "--tb=short", name],
        cwd=folder,
        env=os.environ | {"PYTHONPATH": str(app), "PYTHONDONTWRITEBYTECODE": "1"},
        capture_output=True,
        text=True,
        timeout=60,
    )
