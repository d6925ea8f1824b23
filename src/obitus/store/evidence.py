"""Whole reports, compressed with zstd, with a dictionary trained on this installation's own reports once it has some."""

from __future__ import annotations

import json
import logging
import sqlite3
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cache
from itertools import islice
from typing import Any, Final
from uuid import UUID

import zstandard

from obitus.core.clock import to_text
from obitus.core.days import day_and_place, seq_of
from obitus.store.database import Reader, typed
from obitus.store.days import logs
from obitus.store.days.reading import DayReaders
from obitus.store.errors import UNREADABLE
from obitus.store.rows.records import BodyOfReport, Dictionary, IdOfReport, LogRow, PackedReport
from obitus.store.rows.releases import Version

_log = logging.getLogger("obitus.store")

SAMPLES_TO_TRAIN: Final = 1000
DICTIONARY_BYTES: Final = 64 * 1024
LEVEL: Final = 3
AT_ONCE: Final = 100
"""Reports that are read together: some hundred kilobytes when decompressed."""

_NEWEST_DICTIONARY = "SELECT id, body FROM dictionaries ORDER BY id DESC LIMIT 1"
_DICTIONARY = "SELECT body FROM dictionaries WHERE id = ?"
_BODIES = (
    "SELECT place, app_id, kind, body, dictionary_id FROM evidence WHERE place IN (SELECT value FROM json_each(?))"
)
_SAMPLES = "SELECT place, body, dictionary_id FROM evidence ORDER BY place DESC LIMIT ?"
_TEXT = "SELECT text FROM texts WHERE id = ?"
_IDS = "SELECT place, id FROM ids WHERE place IN (SELECT value FROM json_each(?))"
_RELEASES = "SELECT id, version FROM releases WHERE id IN (SELECT value FROM json_each(?))"
_ADD_DICTIONARY = "INSERT INTO dictionaries (created_ms, body) VALUES (?, ?)"


def batched(items: Iterable[int], most: int) -> Iterator[list[int]]:
    """Yield items in lists of up to so many (``itertools.batched`` comes with Python 3.12)."""
    rest = iter(items)
    while batch := list(islice(rest, most)):
        yield batch


class Packer:
    """Compresses whole reports. Safe to use from several threads: each has its own compressor."""

    def __init__(self) -> None:
        self._local = threading.local()
        self._dictionaries: dict[int, zstandard.ZstdCompressionDict] = {}
        self._active: int | None = None

    def pack(self, report_json: bytes) -> tuple[bytes, int | None]:
        """Return the compressed report and the id of the dictionary used, if any."""
        # A compressor has state: two threads with one would mix their reports.
        active = self._active
        if getattr(self._local, "packs_with", -1) != active:
            dictionary = self._dictionaries[active] if active is not None else None
            self._local.compressor = zstandard.ZstdCompressor(level=LEVEL, dict_data=dictionary)
            self._local.packs_with = active
        compressor: zstandard.ZstdCompressor = self._local.compressor
        return compressor.compress(report_json), active

    def use(self, dictionary_id: int, body: bytes) -> None:
        """Compress with this dictionary from now on; it must have been committed before."""
        self._dictionaries[dictionary_id] = zstandard.ZstdCompressionDict(body)
        # Last: another thread may be compressing, and looks the dictionary up by this number.
        self._active = dictionary_id

    @property
    def dictionary(self) -> tuple[int, bytes] | None:
        """The dictionary in use, with its id."""
        active = self._active
        return None if active is None else (active, self._dictionaries[active].as_bytes())


class Evidence(Packer):
    """Compresses and decompresses whole reports, and reads them from the files of their days."""

    def __init__(self, reader: Reader, days: DayReaders) -> None:
        super().__init__()
        self._reader, self._days = reader, days
        self._reports_to_train = SAMPLES_TO_TRAIN
        self.turn_back: Callable[[int, bytes], bytes | None] | None = None
        """Maps frames of built code back, for failures whose source maps came later."""
        newest = reader.first(Dictionary, _NEWEST_DICTIONARY)
        if newest is not None:
            self.use(newest.id, newest.body)

    def unpack(self, body: bytes, dictionary_id: int | None) -> bytes:
        """Return the report's JSON."""
        dictionary = None
        if dictionary_id is not None:
            if dictionary_id not in self._dictionaries:
                made = self._reader.value(bytes, _DICTIONARY, (dictionary_id,), what="dictionary of this evidence")
                self._dictionaries[dictionary_id] = zstandard.ZstdCompressionDict(made)
            dictionary = self._dictionaries[dictionary_id]
        return zstandard.ZstdDecompressor(dict_data=dictionary).decompress(body)

    def read(self, seq: int) -> bytes:
        """Return the JSON of the report with that number; raises EvidenceGone where it is no longer kept."""
        day, place = day_and_place(seq)
        body = self._read_day(day, [place]).get(place)
        if body is None:
            raise self._days.gone(day)
        return body

    def content(self, seq: int) -> dict[str, Any] | None:
        """Return a report, None where it is no longer kept or cannot be read any more."""
        (found,) = self.contents([seq])
        return found

    def contents(self, seqs: Iterable[int], *, ids: bool = True) -> Iterator[dict[str, Any] | None]:
        """Yield reports in the order of the numbers, some of a day read at a time; None for each that cannot be read
        any more. Without ``ids`` log records have no ids: these cost one search of the whole day.
        """
        for batch in batched(seqs, AT_ONCE):
            places: dict[int, list[int]] = {}
            for seq in batch:
                day, place = day_and_place(seq)
                places.setdefault(day, []).append(place)
            contents: dict[int, bytes] = {}
            for day, wanted in places.items():
                try:
                    contents |= {
                        seq_of(day, place): body for place, body in self._read_day(day, wanted, ids=ids).items()
                    }
                except UNREADABLE as error:
                    # A loop over thousands has many of one day: that is not logged each time.
                    _log.debug("reports are passed over: %s", error)
            for seq in batch:
                yield json.loads(contents[seq]) if seq in contents else None

    def _read_day(self, day: int, places: Sequence[int], *, ids: bool = True) -> dict[int, bytes]:
        """Return the JSON of existing reports of a day, by place; raises where the file cannot be read."""
        wanted = json.dumps(places)
        with self._days.open(day) as connection:
            bodies = {row.place: self._body(row) for row in typed(connection.execute(_BODIES, (wanted,)), BodyOfReport)}
            if len(bodies) < len(places):
                bodies |= self._records_of(connection, [place for place in places if place not in bodies], ids=ids)
        return bodies

    def _body(self, row: BodyOfReport) -> bytes:
        body = self.unpack(row.body, row.dictionary_id)
        if row.kind != "failure" or self.turn_back is None:
            return body
        return self.turn_back(row.app_id, body) or body

    def _records_of(self, connection: sqlite3.Connection, places: Sequence[int], *, ids: bool) -> dict[int, bytes]:
        """Return log records as they were reported, from their columns."""
        places_json = json.dumps(places)
        rows = typed(connection.execute(logs.SOME, (places_json,)), LogRow)
        if not rows:
            return {}
        # An index from numbers to ids would cost every record; a search of the day is needed only for the few that are opened.
        ids_known = dict(typed(connection.execute(_IDS, (places_json,)), IdOfReport)) if ids else {}
        releases = json.dumps(sorted({row.release_id for row in rows}))
        versions = dict(self._reader.all(Version, _RELEASES, (releases,)))

        @cache
        def text_of(number: int) -> str:
            return str(connection.execute(_TEXT, (number,)).fetchone()[0]) if number else ""

        bodies = {}
        for row in rows:
            head = {
                "id": str(UUID(bytes=ids_known[row.place])) if row.place in ids_known else None,
                "time": to_text(row.time_ms),
                "release": versions.get(row.release_id, ""),
            }
            report = head | logs.report_of(row, text_of)
            bodies[row.place] = json.dumps(report, ensure_ascii=False).encode()
        return bodies

    def wants_training(self) -> bool:
        """Whether there may be enough to train the first dictionary from."""
        return self._active is None and self._reports() >= self._reports_to_train

    def _reports(self) -> int:
        return sum(day.reports for day in self._days.known())

    def train(self) -> bytes | None:
        """Train a dictionary on the newest reports (about a second of work; call it off the event loop); None where they are too few."""
        samples: list[bytes | bytearray | memoryview] = []
        for day in self._days.known():
            rows = self._days.all_if_readable(PackedReport, day.day, _SAMPLES, (SAMPLES_TO_TRAIN - len(samples),))
            samples += [self.unpack(row.body, row.dictionary_id) for row in rows]
            if len(samples) >= SAMPLES_TO_TRAIN:
                return zstandard.train_dictionary(DICTIONARY_BYTES, samples).as_bytes()
        # Most are logs, which have no evidence: they are not read again at each turn.
        self._reports_to_train = 2 * self._reports()
        return None


def add_dictionary(connection: sqlite3.Connection, body: bytes, now_ms: int) -> int:
    """Store a trained dictionary and return its id. Runs on the writer."""
    return int(connection.execute(_ADD_DICTIONARY, (now_ms, body)).lastrowid or 0)
