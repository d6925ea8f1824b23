"""How much of one export is read; what is beyond is said to be left out."""

from typing import Final

MOST_RECORDS: Final = 5000
"""Log records or spans."""
MOST_RESOURCES: Final = 200
