"""What can go wrong with the store.

StoreError
├── StoreBusy         the queue of the writer is full: send again later
├── StoreTrouble      the file cannot be written or read now, whatever is asked: nothing was taken, send again
│   ├── StoreFull     the disk is full: free space
│   ├── StoreFaulty   the disk does not do what it is asked to (input or output error)
│   ├── StoreLocked   another process holds the file
│   ├── StoreReadOnly the file or its folder may not be written, or was moved away
│   └── StoreDamaged  the file is damaged
├── StoreInUse        another service runs on the folder
├── StoreTooNew       the file was written by a later version of Obitus
├── StoreBroken       SQLite refused what was to be written, for itself
├── QueryTooLong      a reading took longer than its time limit
├── TooMany           there are as many of these as there may be
├── NotThere          the record asked for does not exist
├── ChangedMeanwhile  what was decided on is not any more what was seen
├── LastOwner         nobody would be left who may administer
├── EvidenceGone      what was reported was removed, or its file is missing; what was counted is there
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
    """Base of what is wrong with the file and not with what was to be written: whoever sent it sends it again."""

    slug = "store-faulty"


class StoreFull(StoreTrouble):
    """Raised when the disk is full; nothing of the transaction was kept."""

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
    """Raised when there are as many of something as there may be."""

    slug = "too-many"


class NotThere(StoreError):
    """Raised when the record asked for does not exist."""

    slug = "not-found"


class LastOwner(StoreError):
    """Raised when the only owner would leave, or be one no more."""

    slug = "last-owner"


class EvidenceGone(StoreError):
    """Raised when what was reported is no longer kept: removed after its time, or its file is missing. Says which, and since when."""

    slug = "evidence-gone"


class ChangedMeanwhile(StoreError):
    """Raised when what somebody decided on is not any more what they saw; says what it is now, ``there`` as fields where that helps."""

    slug = "changed-meanwhile"

    def __init__(self, said: str, there: dict[str, Any] | None = None) -> None:
        super().__init__(said)
        self.there = there


UNREADABLE = (EvidenceGone, StoreDamaged)
"""What reading a day's file may raise though nothing is wrong with the question: it costs that day, and no other."""


class AlreadyThere(StoreError):
    """Raised when a record of that name exists."""

    slug = "already-there"
