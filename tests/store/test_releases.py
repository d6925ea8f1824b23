"""Releases and their deploys in the store by itself: coming, order, names, removal, commits."""

from __future__ import annotations

import pytest

from obitus.core.changes.commits import Commit, LibraryChange, Touched
from obitus.store import commits, names, releases
from obitus.store.errors import AlreadyThere, NotThere, TooMany
from tests.store.conftest import NOW_MS, Store

HOUR_MS = 3_600_000


def versions(store: Store) -> list[str]:
    return [known.version for known in releases.order(store.reader, store.app).releases]


def deploys(store: Store) -> list[tuple[str, int, int]]:
    rows = releases.deploys(store.reader, 0, 2**60, None, None)
    return [(row.version, row.time_ms - NOW_MS, row.inferred) for row in rows]


def test_a_release_came_when_its_earliest_report_says(store: Store) -> None:
    """Reports come late and in any order; only the first is new."""
    first = store.do(releases.come, store.app, "3.0.0", NOW_MS)
    again = store.do(releases.come, store.app, "3.0.0", NOW_MS - 5000)
    assert (first.new, again.new, first.id) == (True, False, again.id)
    assert releases.order(store.reader, store.app).first_ms("3.0.0") == NOW_MS - 5000


def test_what_was_announced_is_new_when_it_comes(store: Store) -> None:
    """It stands in the list before, but is not the newest that runs."""
    store.do(releases.come, store.app, "3.0.0", NOW_MS)
    store.do(releases.announce, store.app, "3.1.0")
    assert versions(store) == ["3.0.0", "3.1.0"] and releases.newest(store.reader, store.app) == "3.0.0"
    assert store.do(releases.come, store.app, "3.1.0", NOW_MS).new
    assert releases.newest(store.reader, store.app) == "3.1.0"


def test_more_releases_than_are_told_apart(store: Store, monkeypatch: pytest.MonkeyPatch) -> None:
    """What a report names beyond them counts as none; a person who announces one is told so."""
    monkeypatch.setattr(releases, "MOST_RELEASES", 2)
    for version in ("1", "2"):
        store.do(releases.come, store.app, version, NOW_MS)
    beyond = store.do(releases.come, store.app, "3", NOW_MS)
    assert beyond.beyond and not beyond.new and versions(store) == ["1", "2"]
    with pytest.raises(TooMany, match="name releases, not builds"):
        store.do(releases.announce, store.app, "3")
    store.do(releases.remove, store.app, "1", NOW_MS)
    assert store.do(releases.come, store.app, "3", NOW_MS).new


def test_a_deploy_is_one_however_often_it_is_reported(store: Store) -> None:
    """What was inferred from the first report gives way to what the pipeline says, also when that comes late."""
    found = store.do(releases.come, store.app, "3.0.0", NOW_MS)
    store.do(releases.infer_deploy, store.app, found.id, "production", NOW_MS)
    store.do(releases.infer_deploy, store.app, found.id, "production", NOW_MS - 1000)
    assert deploys(store) == [("3.0.0", -1000, 1)]
    order = {"canary": False, "reported_by": "pipeline", "now_ms": NOW_MS}
    for _ in range(2):
        store.do(releases.deploy, store.app, "3.0.0", "production", NOW_MS - 2000, **order)
    assert deploys(store) == [("3.0.0", -2000, 0)]
    store.do(releases.deploy, store.app, "3.0.0", "production", NOW_MS + 10 * HOUR_MS, **order)
    assert len(deploys(store)) == 2, "rolled out again it is another"


def test_environments_are_bounded(store: Store, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nobody fills the list with names of machines."""
    monkeypatch.setattr(names, "MOST_ENVIRONMENTS", 1)
    order = {"canary": False, "reported_by": "", "now_ms": NOW_MS}
    store.do(releases.deploy, store.app, "1", "production", NOW_MS, **order)
    with pytest.raises(TooMany, match="name places, not machines"):
        store.do(releases.deploy, store.app, "1", "gate-17", NOW_MS, **order)
    assert deploys(store) == [("1", 0, 0)]


def test_a_release_that_was_renamed_is_found_by_both_names(store: Store) -> None:
    """Reports by the old name go to it; nobody else may take the new one."""
    found = store.do(releases.come, store.app, "v3", NOW_MS)
    other = store.do(releases.come, store.app, "4.0.0", NOW_MS)
    store.do(releases.rename, store.app, "v3", "3.0.0")
    assert store.do(releases.come, store.app, "v3", NOW_MS).id == found.id
    assert releases.name_of(store.reader, store.app, "v3") == "3.0.0"
    with pytest.raises(AlreadyThere):
        store.do(releases.rename, store.app, "3.0.0", "4.0.0")
    with pytest.raises(NotThere):
        store.do(releases.rename, store.app, "5.0.0", "6.0.0")
    store.do(releases.rename, store.app, "3.0.0", "v3")
    assert store.do(releases.come, store.app, "4.0.0", NOW_MS).id == other.id != found.id


def test_an_order_that_was_corrected(store: Store) -> None:
    """A release is put right behind another, and back; never behind itself, however long the way round."""
    for number, version in enumerate(("red", "green", "blue")):
        store.do(releases.come, store.app, version, NOW_MS + number)
    store.do(releases.put_behind, store.app, "red", "blue")
    assert versions(store) == ["green", "blue", "red"]
    with pytest.raises(AlreadyThere):
        store.do(releases.put_behind, store.app, "blue", "red")
    with pytest.raises(NotThere):
        store.do(releases.put_behind, store.app, "red", "white")
    store.do(releases.put_behind, store.app, "red", None)
    assert versions(store) == ["red", "green", "blue"]


def test_a_removed_release_comes_back_with_its_next_report(store: Store) -> None:
    """It is gone from the list, and what stood behind it stands by itself."""
    found = store.do(releases.come, store.app, "3.0.0", NOW_MS)
    store.do(releases.remove, store.app, "3.0.0", NOW_MS)
    assert versions(store) == []
    with pytest.raises(NotThere):
        store.do(releases.remove, store.app, "3.0.0", NOW_MS)
    assert store.do(releases.come, store.app, "3.0.0", NOW_MS).id == found.id and versions(store) == ["3.0.0"]


def test_commits_are_found_by_what_a_stack_names(store: Store) -> None:
    """By the name of a file or of a function; a changed library is always looked at; reported twice they are there once."""
    found = store.do(releases.come, store.app, "3.0.0", NOW_MS)
    fares = Commit("a1", NOW_MS, "Ida", "Offer trailers", [Touched("sailings/fares.py", [(3, 9)], ["surcharge"])], [])
    tides = Commit("b2", NOW_MS + 1, "Per", "Wait less", [Touched("sailings/tides.py", [(1, 2)], ["read"])], [])
    bumped = Commit("c3", NOW_MS + 2, "Zoë", "Renew a library", [], [LibraryChange("tidelib", "1.0", "2.0")])
    assert store.do(commits.add, found.id, [fares, tides, bumped], "c3") == 3
    assert store.do(commits.add, found.id, [fares, tides], None) == 0

    def by(files: list[str], functions: list[str]) -> list[str]:
        return sorted(commit.id for commit in commits.candidates(store.reader, found.id, files, functions))

    assert by(["fares.py"], []) == ["a1", "c3"] and by([], ["read"]) == ["b2", "c3"] and by([], []) == ["c3"]
    (kept,) = (c for c in commits.candidates(store.reader, found.id, ["fares.py"], []) if c.id == "a1")
    assert [(t.path, list(t.ranges), list(t.names)) for t in kept.files] == [("sailings/fares.py", [(3, 9)], ["surcharge"])]  # fmt: skip
    assert [row.hash for row in commits.latest(store.reader, found.id, 2)] == ["c3", "b2"]
    assert commits.revisions(store.reader, store.app) == {"3.0.0": "c3"}
