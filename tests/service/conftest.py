"""What the tests of the service share: whatever blocks the event loop in our own code fails the test."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from blockbuster import blockbuster_ctx


@pytest.fixture(autouse=True)
def _nothing_blocks_the_loop() -> Iterator[None]:
    """Sleeping, reading files, waiting for locks and the like raise where they are done on an event loop by the service."""
    with blockbuster_ctx("obitus.service"):
        yield
