"""What the records say about a reporting key, and when that changes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from obitus.store import apps, removing
from tests.store.conftest import NOW_MS, Store
from tests.store.watched import not_watched

NEVER_CHANGED = {("apps", "id")}
CHANGES: dict[str, Callable[[Store, int], Any]] = {
    "revoked": lambda store, key: store.do(apps.revoke_key, store.app, key, NOW_MS),
    "bounded": lambda store, key: store.do(apps.bound_key, store.app, key, 1000, None),
    "its app removed": lambda store, _: store.do(removing.hide, "sailings", NOW_MS),
}


@pytest.fixture
def key(store: Store) -> int:
    return int(store.do(apps.add_key, store.app, "production", b"key", "wxyz", NOW_MS))


def test_all_that_a_key_says_is_watched(store: Store, key: int) -> None:
    """What :func:`apps.key_with` reads of a row may be kept in memory only while each change of it is noticed."""
    found = not_watched(store.writer.path, apps.CHANGES_A_KEY, lambda reader: apps.key_with(reader, b"key"))
    assert found == ({"reporting_keys", "apps"}, NEVER_CHANGED)


@pytest.mark.parametrize("change", CHANGES)
def test_each_change_of_a_key_is_noticed(store: Store, key: int, change: str) -> None:
    """Before whoever made it hears that it is done; that reports come in with the key is no change."""
    before, changes = apps.key_with(store.reader, b"key"), []
    store.writer.call_after(
        apps.CHANGES_A_KEY, "a_key_changed", lambda: changes.append(apps.key_with(store.reader, b"key"))
    )
    store.do(lambda c: c.execute("UPDATE apps SET last_report_ms = ?", (NOW_MS,)))
    assert changes == []
    CHANGES[change](store, key)
    assert changes == [apps.key_with(store.reader, b"key")] and changes != [before]
