"""How many examples of a property are tried."""

from __future__ import annotations

from typing import Final

from hypothesis import settings

FEW: Final = 10
"""With the profile of the quick tests, which is loaded before any test is."""


def many(count: int) -> settings:
    """Return the settings for so many examples; for few in the quick tests."""
    return settings(max_examples=FEW if settings().max_examples == FEW else count)
