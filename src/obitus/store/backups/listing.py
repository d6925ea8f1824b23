"""The list of a backup: ``backup.json``, written last, names its files."""

from __future__ import annotations

import hashlib
import json
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Final

from obitus.store.errors import NotThere
from obitus.store.whole_files import written_aside

NAME: Final = "backup.json"
FORM: Final = 1
_CHUNK: Final = 1 << 20


@dataclass(frozen=True)
class Copied:
    """One file of a backup."""

    path: str
    """Below the folder, with ``/``."""
    bytes: int
    sha256: str
    source: tuple[int, int] = (0, 0)
    """For a day's file: time of its last change (nanoseconds) and its size, by which the next backup knows that it did not change."""


@dataclass(frozen=True)
class Listing:
    """A whole backup."""

    made_ms: int
    schema: int
    files: tuple[Copied, ...]

    @property
    def bytes(self) -> int:
        """Its size."""
        return sum(one.bytes for one in self.files)

    def file(self, path: str) -> Copied | None:
        """Return the entry of one file."""
        return next((one for one in self.files if one.path == path), None)


def read(folder: Path) -> Listing:
    """Return the list of a folder's backup; raises NotThere where there is none, or one that this version cannot read."""
    try:
        content = json.loads((folder / NAME).read_text("utf-8"))
        if content["form"] != FORM:
            raise NotThere(f"{folder / NAME} is of another form ({content['form']}); bring Obitus up to date")
        files = tuple(
            Copied(file["path"], file["bytes"], file["sha256"], (file["source"][0], file["source"][1]))
            for file in content["files"]
        )
        return Listing(content["made_ms"], content["schema"], files)
    except (OSError, ValueError, KeyError, TypeError, IndexError) as error:
        raise NotThere(f"{folder} holds no backup: {NAME} is missing or broken ({type(error).__name__})") from None


def write(folder: Path, listing: Listing) -> None:
    """Write the list of a backup: from here on it is valid."""
    text = json.dumps({"form": FORM, **asdict(listing)}, indent=1)
    with written_aside(folder / NAME, text.encode()) as aside:
        aside.replace(folder / NAME)


def hash_of(path: Path) -> str:
    """Return a file's SHA-256, hexadecimal."""
    digest = hashlib.sha256()
    with path.open("rb") as opened:
        while piece := opened.read(_CHUNK):
            digest.update(piece)
    return digest.hexdigest()
