"""The short form of ``make endure``: under all at once, nothing that was acknowledged is lost or doubled, and memory is bounded."""

from __future__ import annotations

from pathlib import Path

import pytest
from bench.endure.running import MOST_MB, endure


@pytest.mark.timeout(600)
def test_under_everything_at_once(tmp_path: Path) -> None:
    """Bombs, floods, slow senders, guesses and kills; an honest sender goes on. How fast, `make endure` says."""
    for seconds in (8, 60):
        found = endure(seconds, tmp_path / f"{seconds}", kills=2, beside=False)
        assert found.acknowledged > 20 and found.kills == 2
        assert (found.missing, found.doubled, found.faults) == (0, 0, 0), found.said
        assert found.most_mb < MOST_MB
        if found.sending.under_all[0] and found.reading.under_all[0] and found.health_ms:
            break
        # On a machine that has little time for it not one answer may come in eight seconds of all this.
    assert found.sending.under_all[0] and found.reading.under_all[0] and found.health_ms
