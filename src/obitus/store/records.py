"""All that is kept, opened for one process: who writes, who reads, the files of the days, and the evidence in them."""

from __future__ import annotations

from pathlib import Path

from obitus.store.database import Reader, lock_folder
from obitus.store.days.files import folder_beside
from obitus.store.days.reading import DayReaders
from obitus.store.evidence import Evidence
from obitus.store.writer import Writer


class Records:
    """A folder of records, held by this process alone. Close it to finish what was queued and to let go of the files.

    ``said`` is written beside the process's number for whoever finds the folder in use. Raises StoreError.
    """

    def __init__(self, database: Path, said: str = "") -> None:
        self._lock = lock_folder(database.parent)
        self._lock.write(f"\n{said}\n")
        self._lock.flush()
        try:
            self.writer = Writer(database)
        except BaseException:
            self._lock.close()
            raise
        self.reader = Reader(database)
        self.days = DayReaders(folder_beside(database), self.reader)
        self.evidence = Evidence(self.reader, self.days)

    def close(self) -> None:
        """Write what is queued, and close every file."""
        # Readers first: the last one who closes leaves a single file.
        self.days.close()
        self.reader.close()
        self.writer.close()
        self._lock.close()
