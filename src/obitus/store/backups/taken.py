"""The latest backup of a data folder: a small file beside the records, since a backup is taken from outside of the service."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import Final, NamedTuple

from obitus.store.whole_files import written_aside

NAME: Final = "latest-backup.json"


class Latest(NamedTuple):
    """When the latest backup was taken, its folder, and its size."""

    made_ms: int
    folder: str
    bytes: int


def note(data: Path, latest: Latest) -> None:
    """Record when a backup was taken. A backup that cannot be recorded, as on a full disk, is still valid."""
    with contextlib.suppress(OSError), written_aside(data / NAME, json.dumps(latest._asdict()).encode()) as aside:
        owner = data.stat()
        if hasattr(os, "geteuid") and os.geteuid() == 0:
            # The folder belongs to the service's user: its files have to, too.
            os.chown(aside, owner.st_uid, owner.st_gid)
        aside.replace(data / NAME)


def latest(data: Path) -> Latest | None:
    """Return the latest backup of a data folder, None where none is known."""
    try:
        content = json.loads((data / NAME).read_text("utf-8"))
        return Latest(int(content["made_ms"]), str(content["folder"]), int(content["bytes"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None
