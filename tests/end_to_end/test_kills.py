"""A service that is killed again and again, as ``python -m bench.endure.kills`` does it, in short."""

from __future__ import annotations

from pathlib import Path

from bench.endure.kills import kill_again_and_again


def test_nothing_is_lost_doubled_or_counted_wrongly(tmp_path: Path) -> None:
    """Three senders, reports sent twice, tallies that grow, an alert, a target: each acknowledged report is there once, each count is that of its rows."""
    found = kill_again_and_again(3, tmp_path)
    assert found.holds, found
    assert found.kills == 3 and found.sent_again > 0 and found.tallies > 0 and found.passed_on >= 100, found
