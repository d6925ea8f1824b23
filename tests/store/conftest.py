"""What the store's tests share: a store in memory's place, on disk, with one app in it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from obitus.store import apps
from obitus.store.database import Reader
from obitus.store.writer import Writer

NOW_MS = 1_790_000_000_000


@dataclass
class Store:
    """One writer and one reader of the same file, and the id of the app in it."""

    writer: Writer
    reader: Reader
    app: int = 0

    def do(self, act: Callable[..., Any], *given: Any, **named: Any) -> Any:
        """Do something on the writer, in a transaction of its own."""
        return self.writer.run(lambda connection: act(connection, *given, **named))


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    """A store with one app."""
    writer = Writer(tmp_path / "records.sqlite3", most_waiting=50)
    made = Store(writer, Reader(tmp_path / "records.sqlite3"))
    made.app = made.do(apps.add_app, "sailings", "script", NOW_MS)
    yield made
    made.reader.close()
    writer.close()
