"""What the tests of the demo share: its records, loaded once."""

from __future__ import annotations

from tests.demo.ferry import loaded, shown

__all__ = ["loaded", "shown"]
