"""A client that reports into a list, through its real sender and a real service."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

import obitus
from tests import kept
from tests.conftest import Running


class Reported:
    """What arrived at the service."""

    def __init__(self, running: Running, key: str) -> None:
        self.running, self.key = running, key

    def all(self, kind: str = "failure") -> list[dict[str, Any]]:
        """Wait for the sender, and return every report of a kind as it was kept, oldest first."""
        assert obitus.flush(60), obitus.status()
        return kept.reports(self.running.service, kind)

    def one(self, kind: str = "failure") -> dict[str, Any]:
        """Return the only report of a kind."""
        found = self.all(kind)
        assert len(found) == 1, found
        return found[0]


@pytest.fixture
def reported(running: Running) -> Iterator[Reported]:
    """The client, watching this process."""
    key = running.add_app()
    obitus.watch(url=running.url, key=key, release="2.9.0")
    yield Reported(running, key)
    obitus.stop()
