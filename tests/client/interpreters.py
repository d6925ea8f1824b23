"""The Python versions at hand: the client's own behaviour has to hold on each, with nothing but the standard library."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import textwrap
from functools import cache
from pathlib import Path

import pytest

import obitus

SOURCE = Path(obitus.__file__).parents[1]
WANTED = ("3.12", "3.13")


@cache
def interpreters() -> tuple[str, ...]:
    """Return this interpreter, and one of each later version that is there."""
    found = [sys.executable]
    root = Path(os.environ.get("PYENV_ROOT") or Path.home() / ".pyenv")
    for version in WANTED:
        candidates = [
            *sorted(map(str, root.glob(f"versions/{version}.*/bin/python"))),
            shutil.which(f"python{version}"),
        ]
        for candidate in candidates:
            if candidate and subprocess.run([candidate, "-c", "pass"], capture_output=True).returncode == 0:
                found.append(candidate)
                break
    return tuple(found)


def name_of(python: str) -> str:
    """Return how a test with this interpreter is called."""
    return "this" if python == sys.executable else python.split("/versions/")[-1].split("/bin/")[0].rpartition("/")[2]


every_version = pytest.mark.parametrize("python", interpreters(), ids=name_of)
"""Runs a test once with each interpreter."""


def script(
    python: str, folder: Path, code: str, *arguments: str, timeout: float = 150, **environment: str
) -> subprocess.CompletedProcess[str]:
    """Run a program of its own with an interpreter that has the client and the standard library; stop it at ``timeout``."""
    path = folder / "boarding.py"
    path.write_text(textwrap.dedent(code))
    return subprocess.run(
        [python, str(path), *arguments],
        env=os.environ | {"PYTHONPATH": str(SOURCE), "PYTHONDONTWRITEBYTECODE": "1"} | environment,
        capture_output=True,
        text=True,
        timeout=timeout,
        cwd=folder,
    )
