"""Files of days that are damaged after a kill, as ``python -m bench.endure.damaged`` does it, in short."""

from __future__ import annotations

from pathlib import Path

from bench.endure.damaged import WAYS, damage_again_and_again


def test_the_service_goes_on_without_what_is_damaged(tmp_path: Path) -> None:
    """It starts, answers for all other days, takes what is reported of that one; ``verify`` names that file alone, and mends it."""
    found = damage_again_and_again(5, tmp_path)
    assert found.cycles == 5 and not found.wrong, found
    assert set(found.ways) <= set(WAYS)
