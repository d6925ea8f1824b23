"""Bounds of one export; the rest is counted as left out."""

from typing import Final

MOST_RECORDS: Final = 5000
"""Log records or spans."""
MOST_RESOURCES: Final = 200
