"""What the tests of this folder found, gathered for the table in docs/capture.md (``make matrix``)."""

from __future__ import annotations

import json
import os
from pathlib import Path


def note(place: str, kind: str, found: dict[str, bool]) -> None:
    """Write down what was found of one place, where somebody gathers it."""
    folder = os.environ.get("OBITUS_MATRIX")
    if folder:
        name = "".join(letter if letter.isalnum() else "-" for letter in f"{kind} {place}")
        (Path(folder) / f"{name}.json").write_text(json.dumps({"place": place, "kind": kind, "found": found}))
