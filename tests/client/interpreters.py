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


def missing() -> list[str]:
    """Return the versions that are wanted and not there."""
    return [
        version
        for version in WANTED
        if not any(f"/{version}." in python or python.endswith(version) for python in interpreters())
    ]


def name_of(python: str) -> str:
    """Return how a test with this interpreter is called."""
    return "this" if python == sys.executable else python.split("/versions/")[-1].split("/bin/")[0].rpartition("/")[2]


NEWEST = "newest"
"""One later than those, without threads, processes and network: it comes with the console's packages (see ``newest.mjs``)."""


def name_of_any(python: str) -> str:
    """Return how a test with this interpreter, or with the newest, is called."""
    return python if python == NEWEST else name_of(python)


every_version = pytest.mark.parametrize("python", interpreters(), ids=name_of)
"""Runs a test once with each interpreter."""
and_the_newest = pytest.mark.parametrize("python", [*interpreters(), NEWEST], ids=name_of_any)
"""Runs a test once with each interpreter, and with one that has no threads."""


def script(
    python: str, folder: Path, code: str, *arguments: str, timeout: float = 150, **environment: str
) -> subprocess.CompletedProcess[str]:
    """Run a program of its own with an interpreter that has the client and the standard library; stop it at ``timeout``."""
    path = folder / "boarding.py"
    path.write_text(textwrap.dedent(code))
    if python == NEWEST:
        command = ["node", str(Path(__file__).parent / "newest.mjs"), str(SOURCE), str(folder), path.name]
        return subprocess.run(command, capture_output=True, text=True, timeout=timeout, cwd=folder)
    return subprocess.run(
        [python, str(path), *arguments],
        env=os.environ | {"PYTHONPATH": str(SOURCE), "PYTHONDONTWRITEBYTECODE": "1"} | environment,
        capture_output=True,
        text=True,
        timeout=timeout,
        cwd=folder,
    )


def compile_the_client() -> None:
    """Have the client compiled for each interpreter: programs that are watched keep nothing compiled, and there are hundreds of them."""
    for python in interpreters():
        subprocess.run(
            [
                python,
                "-m",
                "compileall",
                "-q",
                *(str(SOURCE / "obitus" / part) for part in ("__init__.py", "__main__.py", "client", "core")),
            ],
            check=True,
        )


if __name__ == "__main__":
    compile_the_client()
