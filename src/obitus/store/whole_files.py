"""Files that appear complete, or not at all."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def written_aside(path: Path, data: bytes) -> Iterator[Path]:
    """Write a temporary file beside the final one, for its owner alone, and yield it once it is on disk: the caller
    renames it. A file that still has the temporary name at the end is removed. Raises OSError.
    """
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    partial = path.with_name(f"{path.name}.{os.urandom(6).hex()}")
    try:
        handle = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        yield partial
    finally:
        partial.unlink(missing_ok=True)
