"""What can go wrong with the store.

StoreError
├── StoreBusy         the queue of the writer is full: send again later
├── StoreFull         the disk is full: nothing was taken, free space
├── StoreTooNew       the file was written by a later version of Obitus
├── StoreBroken       SQLite refused: the file name and SQLite's error name are in the message
├── QueryTooLong      a reading took longer than its time limit
├── NotThere          the record asked for does not exist
└── AlreadyThere      a record of that name exists
"""

from __future__ import annotations


class StoreError(Exception):
    """Base of all errors of the store. ``slug`` is stable and names the problem in the API."""

    slug = "store-error"


class StoreBusy(StoreError):
    """Raised when the writer's queue is full; the caller should wait and send again."""

    slug = "queue-full"


class StoreFull(StoreError):
    """Raised when the disk is full; nothing of the transaction was kept."""

    slug = "disk-full"


class StoreTooNew(StoreError):
    """Raised at start when the file's schema is newer than this program; start the newer version instead."""

    slug = "store-too-new"


class StoreBroken(StoreError):
    """Raised for any other error of SQLite."""

    slug = "store-broken"


class QueryTooLong(StoreError):
    """Raised when a reading exceeds its time limit; the caller should narrow the window."""

    slug = "query-too-long"


class NotThere(StoreError):
    """Raised when the record asked for does not exist."""

    slug = "not-found"


class AlreadyThere(StoreError):
    """Raised when a record of that name exists."""

    slug = "already-there"
