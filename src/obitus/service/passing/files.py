"""Records as NDJSON files: rolled by size and by time, compressed, the oldest removed."""

from __future__ import annotations

import gzip
import json
import re
import shutil
import time
from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, Final

from obitus.service.alerting.channels.base import SettingsTrouble
from obitus.service.outward.allowed import AllowedFile, NotAllowed
from obitus.service.outward.appending import append
from obitus.service.passing.base import PassingTrouble, Settings, Taken

MB: Final = 1_000_000
DEFAULTS: Final = {"roll_mb": 64, "roll_hours": 24, "files": 30}
MOST: Final = {"roll_mb": 10_000, "roll_hours": 24 * 31, "files": 10_000}


def checked(settings: Settings) -> dict[str, Any]:
    """Return a file target's settings with defaults; raises SettingsTrouble."""
    path = settings.get("path")
    if not isinstance(path, str) or not Path(path).is_absolute():
        raise SettingsTrouble("path", "the whole path of a file is expected, such as /var/log/obitus/records.ndjson")
    target: dict[str, Any] = {"path": path}
    for name, default in DEFAULTS.items():
        value = settings.get(name, default)
        if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= MOST[name]:
            raise SettingsTrouble(name, f"a number from 1 to {MOST[name]:,} is expected")
        target[name] = value
    return target


class FileTaker:
    """Appends to a file; one that is full or old is compressed and named by the time of rolling."""

    def __init__(self, settings: Settings, allowed: AllowedFile, now_s: Callable[[], float] = time.time) -> None:
        self._settings, self._allowed, self._now_s = checked(settings), allowed, now_s

    def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
        """Return the batch as one part."""
        return [batch]

    def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
        """Write a batch, on disk when this returns; raises PassingTrouble."""
        try:
            path = self._allowed.file(Path(self._settings["path"]))
            if not path.parent.is_dir():
                raise PassingTrouble(f"the folder {path.parent} is not there: make it, or mount what holds it")
            self._roll(path)
            lines = b"".join(
                json.dumps(record, ensure_ascii=False).encode("utf-8", "replace") + b"\n" for record in batch
            )
            append(path, lines)
        except OSError as error:
            raise PassingTrouble(f"{error.filename or self._settings['path']}: {error.strerror or error}") from None
        except NotAllowed as error:
            raise PassingTrouble(str(error)) from None
        return Taken()

    def close(self) -> None:
        """Nothing is held open."""

    def _roll(self, path: Path) -> None:
        self._compress(path)
        try:
            status = path.stat()
        except FileNotFoundError:
            return
        began_s = self._began_s(path, status.st_mtime)
        if (
            status.st_size < self._settings["roll_mb"] * MB
            and self._now_s() - began_s < self._settings["roll_hours"] * 3600
        ):
            return
        stamp = time.strftime("%Y%m%dT%H%M%SZ", time.gmtime(self._now_s()))
        rolled = path.with_name(f"{path.stem}-{stamp}{path.suffix}")
        number = 0
        while rolled.exists() or rolled.with_name(rolled.name + ".gz").exists():
            number += 1
            rolled = path.with_name(f"{path.stem}-{stamp}-{number}{path.suffix}")
        path.rename(rolled)
        self._compress(path)
        for old in _rolled(path, ".gz")[: -self._settings["files"]]:
            old.unlink(missing_ok=True)

    def _began_s(self, path: Path, changed_s: float) -> float:
        """Return when a file was begun: by its first record, else by when it was changed last."""
        with path.open("rb") as file:
            line = file.readline(1_000_000)
        try:
            return datetime.fromisoformat(json.loads(line)["passed"]).timestamp()
        except (ValueError, LookupError, TypeError):
            return changed_s

    def _compress(self, path: Path) -> None:
        """Compress rolled files; after a kill in between that is done the next time."""
        for rolled in _rolled(path):
            packed = rolled.with_name(rolled.name + ".gz")
            half = rolled.with_name(rolled.name + ".gz.half")
            with rolled.open("rb") as source, gzip.open(half, "wb", compresslevel=5) as into:
                shutil.copyfileobj(source, into, 1 << 20)
            half.replace(packed)
            rolled.unlink()


def _rolled(path: Path, ending: str = "") -> list[Path]:
    """Return the rolled files of a file, by name. What else begins like them, such as another target's file, is not theirs."""
    name = re.compile(rf"{re.escape(path.stem)}-\d{{8}}T\d{{6}}Z(?:-\d+)?{re.escape(path.suffix + ending)}")
    return sorted(other for other in path.parent.iterdir() if name.fullmatch(other.name))
