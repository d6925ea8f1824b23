"""Where a user's own files are (XDG Base Directory Specification 0.8)."""

from __future__ import annotations

import os
from pathlib import Path


def folder_of(variable: str, below_home: str) -> Path | None:
    """Return the folder that a variable names, else the usual one below the home folder; None where there is no home, as for
    a user that a container runs as and knows nothing of.
    """
    named = Path(os.environ.get(variable, ""))
    # Relative ones are to be ignored.
    if named.is_absolute():
        return named
    try:
        return Path.home() / below_home
    except RuntimeError:
        return None
