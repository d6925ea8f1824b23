"""What the tests of the command line share: a shell that is signed in."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.cli.shell import Shell
from tests.conftest import Running


@pytest.fixture
def shell(tmp_path: Path, running: Running) -> Shell:
    """A shell of somebody who is signed in to a service with nothing in it."""
    made = Shell(tmp_path)
    made.run("login", running.url, "--token", running.token)
    return made
