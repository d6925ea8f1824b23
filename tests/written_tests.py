"""Tests that were made of an issue, run as whoever got one would run it, with no plugin of pytest."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path


def run_test(folder: Path, name: str, text: str, app: Path) -> subprocess.CompletedProcess[str]:
    """Write such a test to a folder and run it, unedited, in a process of its own that can import from ``app``."""
    return run_tests(folder, {name: text}, app)


def run_tests(folder: Path, texts: Mapping[str, str], app: Path) -> subprocess.CompletedProcess[str]:
    """Do the same with several, which share the process."""
    for name, text in texts.items():
        (folder / name).write_text(text)
    return subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-o", "addopts=", "-p", "no:cacheprovider", "--tb=short", *texts],
        cwd=folder,
        env=os.environ
        | {"PYTHONPATH": str(app), "PYTHONDONTWRITEBYTECODE": "1", "PYTEST_DISABLE_PLUGIN_AUTOLOAD": "1"},
        capture_output=True,
        text=True,
        timeout=120,
    )
