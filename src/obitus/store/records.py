"""The whole store, opened for one process: the writer, the readers, the files of the days, and the evidence in them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from pathlib import Path
from typing import Final

from obitus.store.database import Reader, lock_folder
from obitus.store.days.files import folder_beside
from obitus.store.days.reading import DayReaders
from obitus.store.evidence import Evidence
from obitus.store.sight import Sight
from obitus.store.writer import Writer

MOST_SIGHTS: Final = 16
"""Sets of apps for which readers stay open."""


class Records:
    """The store for reading and writing. A limited one shows nothing of other apps; its caller has to check writes."""

    def __init__(self, writer: Writer, reader: Reader) -> None:
        self.writer, self.reader = writer, reader
        self.days = DayReaders(folder_beside(reader.path), reader)
        self.evidence = Evidence(reader, self.days)

    def close_readers(self) -> None:
        """Close what was opened for reading."""
        self.days.close()
        self.reader.close()


class OpenRecords(Records):
    """A folder of records, locked by this process. ``close`` finishes queued work and closes the files. ``said`` is
    written beside the process's number, for the message of a second process. Raises StoreError.
    """

    def __init__(self, database: Path, said: str = "") -> None:
        self._lock = lock_folder(database.parent)
        self._lock.write(f"\n{said}\n")
        self._lock.flush()
        try:
            writer = Writer(database)
        except BaseException:
            self._lock.close()
            raise
        super().__init__(writer, Reader(database))
        self._narrowed: OrderedDict[Sight, Records] = OrderedDict()
        self._guard = threading.Lock()

    def seen_with(self, sight: Sight) -> Records:
        """Return the records limited to some apps."""
        if sight.is_whole:
            return self
        with self._guard:
            narrowed = self._narrowed.pop(sight, None)
            if narrowed is None:
                narrowed = Records(self.writer, Reader(self.reader.path, sight))
                narrowed.evidence.turn_back = self.evidence.turn_back
            self._narrowed[sight] = narrowed
            while len(self._narrowed) > MOST_SIGHTS:
                # They may still be in use: they are closed once nothing refers to them any more.
                self._narrowed.popitem(last=False)
        return narrowed

    def close(self) -> None:
        """Write what is queued, and close every file."""
        # Readers first: the last connection to close leaves a single file.
        for narrowed in self._narrowed.values():
            narrowed.close_readers()
        self.close_readers()
        self.writer.close()
        self._lock.close()
