"""What can go wrong with the store.

StoreError
├── StoreBusy         the queue of the writer is full: send again later
├── StoreTrouble      the file cannot be written or read now, for any request: nothing was stored, send again
│   ├── StoreFull     the disk is full: free space
│   ├── StoreFaulty   the disk answers with errors (input or output error)
│   ├── StoreLocked   another process holds the file
│   ├── StoreReadOnly the file or its folder may not be written, or was moved away
│   └── StoreDamaged  the file is damaged
├── StoreInUse        another service runs on the folder
├── StoreTooNew       the file was written by a later version of Obitus
├── StoreBroken       SQLite refused the record itself
├── QueryTooLong      a reading took longer than its time limit
├── TooMany the bound of these is reached
├── NotThere          the record asked for does not exist
├── ChangedMeanwhile  the decided object has changed since it was seen
├── LastOwner         no owner would be left
├── EvidenceGone      the report was removed, or its file is missing; its counts are kept
└── AlreadyThere      a record of that name exists
"""

from __future__ import annotations

from typing import Any


class StoreError(Exception):
    """Base of all errors of the store. ``slug`` is stable and names the problem in the API."""

    slug = "store-error"


class StoreBusy(StoreError):
    """Raised when the writer's queue is full; the caller should wait and send again."""

    slug = "queue-full"


class StoreTrouble(StoreError):
    """Base of errors of the file, not of the record: its sender sends it again."""

    slug = "store-faulty"


class StoreFull(StoreTrouble):
    """Raised when the disk is full; the transaction was rolled back."""

    slug = "disk-full"


class StoreFaulty(StoreTrouble):
    """Raised when the disk answers with an error."""

    slug = "store-faulty"


class StoreLocked(StoreTrouble):
    """Raised when another process holds the file for too long."""

    slug = "store-locked"


class StoreReadOnly(StoreTrouble):
    """Raised when the file cannot be written or opened: its rights, its folder, or it was moved away."""

    slug = "store-read-only"


class StoreDamaged(StoreTrouble):
    """Raised when the file is no database, or parts of it are damaged."""

    slug = "store-damaged"


class StoreInUse(StoreError):
    """Raised at start when another service runs on the folder."""

    slug = "store-in-use"


class StoreTooNew(StoreError):
    """Raised at start when the file's schema is newer than this program; start the newer version instead."""

    slug = "store-too-new"


class StoreBroken(StoreError):
    """Raised for any other error of SQLite."""

    slug = "store-broken"


class QueryTooLong(StoreError):
    """Raised when a reading exceeds its time limit; the caller should narrow the window."""

    slug = "query-too-long"


class TooMany(StoreError):
    """Raised when the bound of something is reached."""

    slug = "too-many"


class NotThere(StoreError):
    """Raised when the record asked for does not exist."""

    slug = "not-found"


class LastOwner(StoreError):
    """Raised when the only owner would be removed, or get another role."""

    slug = "last-owner"


class EvidenceGone(StoreError):
    """Raised when a report is no longer kept: removed after its time, or its file is missing. Says which, and since when."""

    slug = "evidence-gone"


class ChangedMeanwhile(StoreError):
    """Raised when an object has changed since a person saw it; says its present state, in ``there`` as fields."""

    slug = "changed-meanwhile"

    def __init__(self, said: str, there: dict[str, Any] | None = None) -> None:
        super().__init__(said)
        self.there = there


UNREADABLE = (EvidenceGone, StoreDamaged)
"""Errors of a day's file, not of the question: only that day is missing from the answer."""


class AlreadyThere(StoreError):
    """Raised when a record of that name exists."""

    slug = "already-there"
