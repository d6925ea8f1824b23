"""People, what lets them in, and what is on record, in the store by itself."""

from __future__ import annotations

import pytest

from obitus.store import apps, people, rules
from obitus.store.errors import AlreadyThere, NotThere
from tests.store.conftest import NOW_MS, Store
from tests.store.watched import not_watched

MINUTE_MS = 60_000
NEVER_CHANGED = {("passes", "hash"), ("passes", "id"), ("passes", "created_ms"), ("passes", "by_link"), ("apps", "id")}
USED = {("passes", "used_ms")}
"""Its use says nothing about whom it lets in, except for how long: for longer."""


@pytest.fixture
def ida(store: Store) -> int:
    return int(store.do(people.add_owner, "Ida Moss", NOW_MS))


def add_pass(store: Store, person: int, kind: str, name: str, **more: object) -> None:
    given = {"secret_hash": name.encode(), "pass_id": name, "kind": kind, "person_id": person, "label": name}
    store.do(people.add_pass, **(given | {"now_ms": NOW_MS, "expires_ms": NOW_MS + 60 * MINUTE_MS} | more))


def test_a_pass_lets_in_until_it_ends(store: Store, ida: int) -> None:
    """By its hash and kind alone, until its time, and not after it was ended."""
    add_pass(store, ida, "token", "deploy", scope="read")
    found = people.person_with(store.reader, b"deploy", "token", NOW_MS)
    assert found is not None and (found.name, found.scope, found.has_password) == ("Ida Moss", "read", False)
    assert people.person_with(store.reader, b"deploy", "session", NOW_MS) is None
    assert people.person_with(store.reader, b"other", "token", NOW_MS) is None
    assert people.person_with(store.reader, b"deploy", "token", NOW_MS + 61 * MINUTE_MS) is None
    store.do(people.end_pass, "deploy", ida, NOW_MS)
    assert people.person_with(store.reader, b"deploy", "token", NOW_MS) is None
    with pytest.raises(NotThere):
        store.do(people.end_pass, "deploy", ida, NOW_MS)


def test_all_that_says_who_asks_is_watched(store: Store, ida: int) -> None:
    """What :func:`people.person_with` reads of a row may be kept in memory only while each change of it is one of those that are named."""
    add_pass(store, ida, "token", "deploy")
    found = not_watched(
        store.writer.path,
        people.CHANGES_WHO_ASKS,
        lambda reader: people.person_with(reader, b"deploy", "token", NOW_MS),
    )
    assert found == ({"passes", "people", "apps", "app_people"}, NEVER_CHANGED | USED)


@pytest.mark.parametrize("kind", ["session", "token"])
def test_until_when_a_pass_lets_in(store: Store, ida: int, kind: str) -> None:
    """It says itself until when, unless it is used: to the millisecond."""
    add_pass(store, ida, kind, "deploy", expires_ms=None)
    add_pass(store, ida, kind, "short")
    for name in ("deploy", "short"):
        found = people.person_with(store.reader, name.encode(), kind, NOW_MS)  # type: ignore[arg-type]
        assert found is not None
        if found.until_ms is None:
            assert (kind, name) == ("token", "deploy")
            continue
        at = [people.person_with(store.reader, name.encode(), kind, found.until_ms - early) for early in (1, 0)]  # type: ignore[arg-type]
        assert at == [found, None]


def test_a_link_is_used_once(store: Store, ida: int) -> None:
    """Used, too old or unknown, it lets nobody in."""
    store.do(people.add_link, b"link", "l1", NOW_MS, NOW_MS + MINUTE_MS)
    store.do(people.add_link, b"old", "l2", NOW_MS, NOW_MS + MINUTE_MS)
    assert store.do(people.use_link, b"link", NOW_MS) == ida
    for secret, at in ((b"link", NOW_MS), (b"old", NOW_MS + 2 * MINUTE_MS), (b"none", NOW_MS)):
        with pytest.raises(NotThere):
            store.do(people.use_link, secret, at)


def test_a_link_needs_somebody(store: Store) -> None:
    """Before the first start there is nobody."""
    with pytest.raises(NotThere):
        store.do(people.add_link, b"link", "l1", NOW_MS, NOW_MS + MINUTE_MS)


def test_a_new_password_ends_what_else_is_open(store: Store, ida: int) -> None:
    """Other sessions and links; tokens only where that is wished; the session that set it stays."""
    for kind, name in (("session", "here"), ("session", "there"), ("link", "sent"), ("token", "deploy")):
        add_pass(store, ida, kind, name)
    ended = store.do(people.set_password, ida, "hash", keep_pass="here", now_ms=NOW_MS)
    assert sorted(ended) == ["sent", "there"]
    assert people.is_good(store.reader, "here", NOW_MS) and not people.is_good(store.reader, "there", NOW_MS)
    assert people.is_good(store.reader, "deploy", NOW_MS)
    assert store.do(people.set_password, ida, "other", keep_pass="here", now_ms=NOW_MS, tokens=True) == ["deploy"]
    found = people.person_with(store.reader, b"here", "session", NOW_MS)
    assert found is not None and found.has_password


def test_tries_are_counted_by_name_and_by_address(store: Store) -> None:
    """Too many for a name from anywhere, or from one address for any name, have to wait; others do not."""
    for number in range(3):
        assert store.do(people.try_sign_in, "ida", f"10.0.0.{number}", NOW_MS, (3, 5)) == 0
    wait_ms = store.do(people.try_sign_in, "ida", "10.0.0.9", NOW_MS, (3, 5))
    assert 1000 <= wait_ms <= people.TRY_WINDOW_MS
    assert store.do(people.try_sign_in, "per", "10.0.0.9", NOW_MS, (3, 5)) == 0
    for number in range(4):
        store.do(people.try_sign_in, f"guess {number}", "10.0.0.9", NOW_MS, (3, 5))
    assert store.do(people.try_sign_in, "zoe", "10.0.0.9", NOW_MS, (3, 5)) > 0
    assert store.do(people.try_sign_in, "ida", "10.0.0.9", NOW_MS + people.TRY_WINDOW_MS + 1, (3, 5)) == 0


def test_who_signed_in_is_forgiven(store: Store) -> None:
    """What was tried with that name from there before does not count any more."""
    for _ in range(3):
        store.do(people.try_sign_in, "ida", "10.0.0.1", NOW_MS, (3, 9))
    store.do(people.forget_tries, "ida", "10.0.0.1")
    assert store.do(people.try_sign_in, "ida", "10.0.0.1", NOW_MS, (3, 9)) == 0


def test_acts_are_read_newest_first_and_narrowed(store: Store, ida: int) -> None:
    """By kind, by person, and on from where one stopped."""
    for number in range(4):
        store.do(
            people.note_act, ida if number % 2 else None, f"act {number % 2}", f"subject {number}", NOW_MS + number
        )

    def read(**asked: object) -> list[str]:
        given = {"act": "", "person": "", "span_ms": (0, 2**62), "before": 2**62, "most": 10} | asked
        return [row.subject for row in people.acts(store.reader, **given)]  # type: ignore[arg-type]

    assert read() == ["subject 3", "subject 2", "subject 1", "subject 0"]
    assert read(act="act 1") == read(person="Ida Moss") == ["subject 3", "subject 1"]
    assert read(most=1) == ["subject 3"] and read(before=3) == ["subject 1", "subject 0"]
    assert people.act_kinds(store.reader) == ["act 0", "act 1"]


def test_a_rule_is_active_once(store: Store, ida: int) -> None:
    """Stated twice it is refused; stopped it may be stated again."""
    for add, end, read in (
        (rules.REDACTION.add, rules.REDACTION.end, rules.REDACTION.active),
        (rules.GROUPING.add, rules.GROUPING.end, rules.GROUPING.active),
        (rules.HANDING.add, rules.HANDING.end, rules.HANDING.active),
    ):
        number = store.do(add, "name pin", ida, NOW_MS)
        with pytest.raises(AlreadyThere):
            store.do(add, "name pin", ida, NOW_MS)
        assert store.do(end, number, NOW_MS) == "name pin" and read(store.reader) == []
        with pytest.raises(NotThere):
            store.do(end, number, NOW_MS)
        again = store.do(add, "name pin", ida, NOW_MS)
        assert [(row.id, row.person) for row in read(store.reader)] == [(again, "Ida Moss")]


def test_apps_and_keys(store: Store) -> None:
    """A name is taken once; a key that was revoked opens nothing."""
    with pytest.raises(AlreadyThere):
        store.do(apps.add_app, "sailings", "script", NOW_MS)
    assert [row.name for row in apps.apps(store.reader)] == ["sailings"]
    with pytest.raises(NotThere):
        apps.app_named(store.reader, "gatekeeper")
