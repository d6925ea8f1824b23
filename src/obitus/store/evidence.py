"""Whole reports, compressed with zstd, with a dictionary trained on this installation's own reports once it has some."""

from __future__ import annotations

import sqlite3
import threading
from typing import Final

import zstandard

from obitus.store.database import Reader

SAMPLES_TO_TRAIN: Final = 1000
DICTIONARY_BYTES: Final = 64 * 1024
LEVEL: Final = 3

_NEWEST_DICTIONARY = "SELECT id, body FROM dictionaries ORDER BY id DESC LIMIT 1"
_DICTIONARY = "SELECT body FROM dictionaries WHERE id = ?"
_BODY = "SELECT body, dictionary_id FROM evidence WHERE seq = ?"
_SAMPLES = "SELECT body, dictionary_id FROM evidence ORDER BY seq DESC LIMIT ?"
# Not COUNT(*), which reads the whole index: numbers only grow, and the ones that were removed make no difference here.
_HOW_MANY = "SELECT COALESCE(MAX(seq), 0) AS n FROM evidence"
_ADD_DICTIONARY = "INSERT INTO dictionaries (created_ms, body) VALUES (?, ?)"


class Packer:
    """Packs whole reports. Safe to use from several threads: each has its own compressor."""

    def __init__(self) -> None:
        self._local = threading.local()
        self._dictionaries: dict[int, zstandard.ZstdCompressionDict] = {}
        self._active: int | None = None

    def pack(self, report_json: bytes) -> tuple[bytes, int | None]:
        """Return the compressed report and the id of the dictionary used, if any."""
        # A compressor holds a state of its own: two threads with one would mix their reports.
        active = self._active
        if getattr(self._local, "packs_with", -1) != active:
            dictionary = self._dictionaries[active] if active is not None else None
            self._local.compressor = zstandard.ZstdCompressor(level=LEVEL, dict_data=dictionary)
            self._local.packs_with = active
        compressor: zstandard.ZstdCompressor = self._local.compressor
        return compressor.compress(report_json), active

    def use(self, dictionary_id: int, body: bytes) -> None:
        """Pack with this dictionary from now on; it must have been committed before."""
        self._dictionaries[dictionary_id] = zstandard.ZstdCompressionDict(body)
        # Last: another thread may be packing, and looks the dictionary up by this number.
        self._active = dictionary_id

    @property
    def dictionary(self) -> tuple[int, bytes] | None:
        """The dictionary in use, with its id."""
        active = self._active
        return None if active is None else (active, self._dictionaries[active].as_bytes())


class Evidence(Packer):
    """Packs and unpacks whole reports."""

    def __init__(self, reader: Reader) -> None:
        super().__init__()
        self._reader = reader
        newest = reader.row(_NEWEST_DICTIONARY)
        if newest is not None:
            self.use(newest["id"], newest["body"])

    def unpack(self, body: bytes, dictionary_id: int | None) -> bytes:
        """Return the report's JSON."""
        dictionary = None
        if dictionary_id is not None:
            if dictionary_id not in self._dictionaries:
                row = self._reader.one(_DICTIONARY, (dictionary_id,), what="dictionary of this evidence")
                self._dictionaries[dictionary_id] = zstandard.ZstdCompressionDict(row["body"])
            dictionary = self._dictionaries[dictionary_id]
        return zstandard.ZstdDecompressor(dict_data=dictionary).decompress(body)

    def read(self, seq: int) -> bytes:
        """Return the JSON of the report with that sequence number."""
        row = self._reader.one(_BODY, (seq,), what="evidence for this report")
        return self.unpack(row["body"], row["dictionary_id"])

    def wants_training(self) -> bool:
        """Whether there is enough to train the first dictionary from."""
        return self._active is None and int(self._reader.one(_HOW_MANY)["n"]) >= SAMPLES_TO_TRAIN

    def train(self) -> bytes:
        """Train a dictionary on the newest reports (about a second of work; call it off the event loop)."""
        samples: list[bytes | bytearray | memoryview] = [
            self.unpack(row["body"], row["dictionary_id"]) for row in self._reader.rows(_SAMPLES, (SAMPLES_TO_TRAIN,))
        ]
        return zstandard.train_dictionary(DICTIONARY_BYTES, samples).as_bytes()


def add_dictionary(connection: sqlite3.Connection, body: bytes, now_ms: int) -> int:
    """Store a trained dictionary and return its id. Runs on the writer."""
    return int(connection.execute(_ADD_DICTIONARY, (now_ms, body)).lastrowid or 0)
