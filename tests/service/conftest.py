"""What the tests of the service share: whatever blocks the event loop in our own code fails the test."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from blockbuster import blockbuster_ctx

from obitus.service.settings import Limits
from tests.conftest import Running, serving


@pytest.fixture(autouse=True)
def _nothing_blocks_the_loop() -> Iterator[None]:
    """Sleeping, reading files, waiting for locks and the like raise where they are done on an event loop by the service."""
    with blockbuster_ctx("obitus.service"):
        yield


@pytest.fixture
def patient(tmp_path: Path) -> Iterator[Running]:
    """A service with nothing in it, where nobody has to wait for being turned away again and again."""
    with serving(tmp_path / "data", replace(Limits(), refusals_at_once=1e9)) as found:
        yield found
