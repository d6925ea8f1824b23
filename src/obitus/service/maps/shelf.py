"""Stored source maps: compressed files in the folder ``maps`` beside the store, named by hash; a few of them are cached in memory."""

from __future__ import annotations

import hashlib
import json
import logging
import threading
from collections import OrderedDict
from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any, Final

import zstandard

from obitus.core.maps.source_map import MapTrouble, SourceMap
from obitus.core.maps.turning import OpenedMap, built_path, turned
from obitus.core.releases import canonical
from obitus.store import maps as store
from obitus.store.database import Reader
from obitus.store.errors import StoreError
from obitus.store.rows.maps import MapRow
from obitus.store.whole_files import written_aside
from obitus.store.writer import Writer

_log = logging.getLogger("obitus.service")

MOST_BYTES: Final = 64 * 1024 * 1024
"""Most bytes of one map, inflated."""
MOST_OPEN_BYTES: Final = 128 * 1024 * 1024
"""Most bytes of the cached maps."""
MOST_FOUND: Final = 20_000
"""Built files in the cache of file to map."""


class Shelf:
    """The maps of all apps. Reading needs only the store's folder, so that a worker process has its own instance."""

    def __init__(self, folder: Path, reader: Reader) -> None:
        self._folder, self._reader = folder / store.FOLDER, reader
        self._lock = threading.Lock()
        self._open: OrderedDict[tuple[bytes, str], tuple[int, OpenedMap | None]] = OrderedDict()
        self._found: dict[tuple[int, str, str, str], MapRow | None] = {}
        self._apps: frozenset[int] = frozenset()
        self.changes = 0
        """Version of the cache."""
        self._changing = threading.Lock()
        self.refresh()

    @property
    def is_empty(self) -> bool:
        """Whether no app has any map."""
        return not self._apps

    def refresh(self) -> None:
        """Clear the caches, and read again which apps have maps."""
        with self._lock:
            # Read under the lock: of two refreshes the later one must have the last word.
            self._apps = store.apps_with_maps(self._reader)
            self._found.clear()
            # What could not be read may have been added again.
            self._open = OrderedDict((at, opened) for at, opened in self._open.items() if opened[1] is not None)
            self.changes += 1

    def add(self, writer: Writer, app_id: int, release: str, path: str, data: bytes, who: str, now_ms: int) -> MapRow:
        """Store a map of a built file; raises MapTrouble, TooMany. The file is on disk before the store's row."""
        map_read = SourceMap.read(data)
        map_read.check()
        digest = hashlib.sha256(data).digest()
        with_text = sum(text is not None for text in map_read.contents)
        row = MapRow(
            0, app_id, release, path, path.rpartition("/")[2], map_read.debug_id, digest, len(data), len(map_read.sources), with_text, who, now_ms
        )  # fmt: skip
        with self._changing:
            self._write(digest, data)
            writer.run(partial(store.add, row=row))
        self.refresh()
        return row

    def remove(self, writer: Writer, app_id: int, release: str) -> int:
        """Remove the maps of a release; return how many there were."""
        with self._changing:
            hashes = set(store.hashes(self._reader, app_id, release).values())
            removed: int = writer.run(partial(store.remove, app_id=app_id, release=release))
            for digest in hashes:
                # Files are named by their content: another release may have the same map.
                if not writer.run(partial(store.is_used, hash_=digest)):
                    self._path(digest).unlink(missing_ok=True)
        self.refresh()
        return removed

    def has(self, digest: bytes) -> bool:
        """Whether the file of a map is there."""
        return self._path(digest).exists()

    def tidy(self, writer: Writer) -> int:
        """Remove files without a row in the store, such as those of a removed app; return how many there were."""
        removed = 0
        for path in (*self._folder.glob(f"*{store.SUFFIX}"), *self._folder.glob(f"*{store.DAMAGED}")):
            with self._changing:
                if not writer.run(partial(store.is_used, hash_=bytes.fromhex(path.name.partition(".")[0]))):
                    path.unlink(missing_ok=True)
                    removed += 1
        if removed:
            self.refresh()
        return removed

    def turn_back(self, app_id: int, release: str, content: Mapping[str, Any]) -> dict[str, Any] | None:
        """Return a failure's content with its frames mapped back where there are maps; None where there is nothing
        to do. Never raises for errors of a map: then frames stay as they were reported.
        """
        if app_id not in self._apps or not content.get("exceptions"):
            return None
        find = partial(self._map_of, app_id, release, content.get("debug_ids") or {})
        links, changed = [], False
        for link in content["exceptions"]:
            try:
                frames = turned(link.get("frames") or (), find)
            except StoreError as error:
                _log.warning("a stack stays as it was reported: %s", error)
                frames = None
            changed = changed or frames is not None
            links.append(link if frames is None else {**link, "frames": frames})
        return {**content, "exceptions": links} if changed else None

    def turn_back_json(self, app_id: int, body: bytes) -> bytes | None:
        """The same with a failure as JSON."""
        if app_id not in self._apps:
            return None
        content = json.loads(body)
        turned = self.turn_back(app_id, canonical(str(content.get("release") or "")), content)
        return None if turned is None else json.dumps(turned, ensure_ascii=False).encode()

    def row_of(self, app_id: int, release: str, file: str, debug_id: str = "") -> MapRow | None:
        """Return the map of a built file, None where there is none: by the id of its build where that is known, else by release and path."""
        at = (app_id, release, file, debug_id)
        with self._lock:
            if at in self._found:
                return self._found[at]
            changes = self.changes
        row = store.with_id(self._reader, app_id, debug_id) if debug_id else None
        path = built_path(file)
        if row is None and path:
            row = store.best_for(store.named(self._reader, app_id, release, path.rpartition("/")[2]), path, release)
        with self._lock:
            # A map that was added since the lookup began may be the right one, and would be missed until the next change.
            if changes == self.changes:
                if len(self._found) >= MOST_FOUND:
                    self._found.clear()
                self._found[at] = row
        return row

    def _map_of(self, app_id: int, release: str, ids: Mapping[str, str], frame: Mapping[str, Any]) -> OpenedMap | None:
        row = self.row_of(app_id, release, frame["file"], ids.get(frame["file"], "").lower())
        return None if row is None else self._opened(row)

    def _opened(self, row: MapRow) -> OpenedMap | None:
        at = (row.hash, row.path)
        with self._lock:
            opened_before = self._open.get(at)
            if opened_before is not None:
                self._open.move_to_end(at)
                return opened_before[1]
        opened: OpenedMap | None = None
        try:
            opened = OpenedMap(SourceMap.read(self._read(row.hash)), row.path)
        except (MapTrouble, OSError) as error:
            _log.warning("the source map of %s cannot be read: %s. Add it again: obitus maps add", row.path, error)
        with self._lock:
            # A broken one too: it must not be read from disk again for each frame.
            self._open[at] = (row.bytes, opened)
            while len(self._open) > 1 and sum(size for size, _ in self._open.values()) > MOST_OPEN_BYTES:
                self._open.popitem(last=False)
        return opened

    def _path(self, digest: bytes) -> Path:
        return self._folder / f"{digest.hex()}{store.SUFFIX}"

    def _damaged(self, digest: bytes) -> Path:
        return self._folder / f"{digest.hex()}{store.DAMAGED}"

    def _write(self, digest: bytes, data: bytes) -> None:
        path = self._path(digest)
        if path.exists():
            return
        with written_aside(path, zstandard.ZstdCompressor(level=6).compress(data)) as partial_path:
            partial_path.replace(path)
        self._damaged(digest).unlink(missing_ok=True)

    def _read(self, digest: bytes) -> bytes:
        path = self._path(digest)
        try:
            data = zstandard.ZstdDecompressor().decompress(path.read_bytes(), max_output_size=MOST_BYTES)
        except zstandard.ZstdError:
            data = b""
        if hashlib.sha256(data).digest() != digest:
            # Put aside: a pipeline sends only what is missing.
            path.replace(self._damaged(digest))
            raise MapTrouble("the file was changed on disk")
        return data
