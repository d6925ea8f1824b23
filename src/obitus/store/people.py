"""People, their passes (sign-in links, sessions, personal tokens) and the record of acts. Secrets are passed in hashed."""

from __future__ import annotations

import json
import sqlite3
from dataclasses import dataclass
from typing import Final, Literal

from obitus.core.clock import HOUR_MS
from obitus.store import events
from obitus.store.database import Reader, column_of
from obitus.store.errors import NotThere
from obitus.store.rows.people import Act, Pass, PersonWithPass, PersonWithPassword, Role, Scope
from obitus.store.sight import WHOLE, Sight

PassKind = Literal["link", "session", "token"]
SESSION_IDLE_MS: Final = 12 * HOUR_MS
"""A session ends after so long without use."""
CHANGES_WHO_ASKS: Final = (
    "CREATE TEMP TRIGGER update_of_passes AFTER UPDATE OF kind, ended_ms, expires_ms, scope, apps, person_id ON passes BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER delete_passes AFTER DELETE ON passes BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER update_people AFTER UPDATE ON people BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER delete_people AFTER DELETE ON people BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER insert_apps AFTER INSERT ON apps BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER update_of_apps AFTER UPDATE OF limited ON apps BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER delete_apps AFTER DELETE ON apps BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER insert_app_people AFTER INSERT ON app_people BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER update_app_people AFTER UPDATE ON app_people BEGIN SELECT who_asks_changed(); END",
    "CREATE TEMP TRIGGER delete_app_people AFTER DELETE ON app_people BEGIN SELECT who_asks_changed(); END",
)
"""Triggers for all changes after which :func:`person_with` may return something else. That a pass is used is none of them."""
TRY_WINDOW_MS: Final = 5 * 60_000

_TO_SIGN_IN = "SELECT id, name, password, code_secret, code_step FROM people WHERE removed_ms IS NULL"
_OWNER: Final = f"{_TO_SIGN_IN} AND role = 'owner' ORDER BY id LIMIT 1"
_PERSON_NAMED: Final = f"{_TO_SIGN_IN} AND name = ?"
_PERSON_WITH = """
SELECT people.id, people.name, people.role, people.password IS NOT NULL AS has_password,
  people.code_secret IS NOT NULL AS has_codes, passes.id AS pass_id,
  passes.scope, passes.created_ms, passes.expires_ms, passes.used_ms, passes.by_link, passes.apps,
  (SELECT json_group_array(id) FROM apps WHERE limited = 1 AND people.role <> 'owner'
     AND id NOT IN (SELECT app_id FROM app_people WHERE person_id = people.id)) AS hidden
FROM passes JOIN people ON people.id = passes.person_id AND people.removed_ms IS NULL
WHERE passes.hash = :hash AND passes.kind = :kind AND passes.ended_ms IS NULL
  AND (passes.expires_ms IS NULL OR passes.expires_ms > :now_ms)
  AND (passes.kind <> 'session' OR COALESCE(passes.used_ms, passes.created_ms) > :now_ms - :idle_ms)"""
_PASSES = """
SELECT id, label, created_ms, expires_ms, used_ms, scope, by_link,
  (SELECT json_group_array(name) FROM apps WHERE passes.apps IS NOT NULL AND id IN (SELECT value FROM json_each(passes.apps))) AS apps
FROM passes
WHERE person_id = :person_id AND kind = :kind AND passes.ended_ms IS NULL
  AND (passes.expires_ms IS NULL OR passes.expires_ms > :now_ms)
  AND (passes.kind <> 'session' OR COALESCE(passes.used_ms, passes.created_ms) > :now_ms - :idle_ms)
ORDER BY created_ms, id"""
_IS_GOOD = """
SELECT 1 FROM passes WHERE id = :id AND passes.ended_ms IS NULL
  AND (passes.expires_ms IS NULL OR passes.expires_ms > :now_ms)
  AND (passes.kind <> 'session' OR COALESCE(passes.used_ms, passes.created_ms) > :now_ms - :idle_ms)"""
# Never backwards: two requests at once may write their times in either order.
_TOUCH = "UPDATE passes SET used_ms = :now_ms WHERE id = :id AND COALESCE(used_ms, 0) < :now_ms"
_ADD_OWNER = "INSERT INTO people (name, role, created_ms) VALUES (?, 'owner', ?)"
_ADD_PASS = """
INSERT INTO passes (hash, id, kind, person_id, label, created_ms, expires_ms, scope, by_link, apps)
VALUES (:hash, :id, :kind, :person_id, :label, :now_ms, :expires_ms, :scope, :by_link, :apps)"""
_END_PASS = "UPDATE passes SET ended_ms = :now_ms WHERE id = :id AND person_id = :person_id AND ended_ms IS NULL"
# One statement: of two browsers that open a link at the same moment only one succeeds.
_USE_LINK = """
UPDATE passes SET ended_ms = :now_ms
WHERE hash = :hash AND kind = 'link' AND ended_ms IS NULL AND expires_ms > :now_ms RETURNING person_id"""
_SET_PASSWORD = "UPDATE people SET password = ? WHERE id = ?"
_END_OTHER_SESSIONS = """
UPDATE passes SET ended_ms = :now_ms
WHERE person_id = :person_id AND (kind IN ('session', 'link') OR (kind = 'token' AND :tokens)) AND ended_ms IS NULL AND id <> :keep
RETURNING id"""
_TRY = "INSERT INTO sign_in_tries (time_ms, name, address) VALUES (:now_ms, :name, :address)"
# Those ahead of the clock too: it was set back, and they would count for ever.
_FORGET_TRIES = "DELETE FROM sign_in_tries WHERE time_ms <= :now_ms - :window_ms OR time_ms > :now_ms + :window_ms"
_TRIES = """
SELECT SUM(name = :name) AS of_name, SUM(address = :address) AS of_address,
  MIN(CASE WHEN name = :name THEN time_ms END) AS first_of_name, MIN(CASE WHEN address = :address THEN time_ms END) AS first_of_address
FROM sign_in_tries WHERE name = :name OR address = :address"""
_FORGET_ONES = "DELETE FROM sign_in_tries WHERE name = :name AND address = :address"
_ACTS = """
SELECT acts.id, acts.time_ms, acts.act, acts.subject, people.name AS person
FROM acts LEFT JOIN people ON people.id = acts.person_id
WHERE (:act = '' OR acts.act = :act) AND (:person = '' OR people.name = :person) AND acts.id < :before
  AND acts.time_ms >= :from_ms AND acts.time_ms < :to_ms
ORDER BY acts.id DESC LIMIT :most"""
# From one kind to the next by the index: DISTINCT would read the whole record.
_ACT_KINDS = """
WITH RECURSIVE kinds (act) AS (
  SELECT MIN(act) FROM acts UNION ALL
  SELECT (SELECT MIN(act) FROM acts WHERE act > kinds.act) FROM kinds WHERE act IS NOT NULL)
SELECT act FROM kinds WHERE act IS NOT NULL LIMIT 100"""
_ADD_ACT = "INSERT INTO acts (time_ms, person_id, act, subject) VALUES (?, ?, ?, ?)"


@dataclass(frozen=True, slots=True)
class Person:
    """A signed-in person, and the pass."""

    id: int
    name: str
    role: Role
    has_password: bool
    has_codes: bool
    pass_id: str
    scope: Scope = "administer"
    """The scope of the pass, within the role's rights."""
    sight: Sight = WHOLE
    by_link_ms: int | None = None
    """When this session began with a sign-in link; None for a password, or a token."""
    used_ms: int | None = None
    """When it was last used, as far as recorded."""
    until_ms: int | None = None
    """When the pass ends if it is not used again; None for never."""


def owner(reader: Reader) -> PersonWithPassword | None:
    """Return the owner, or None before the first start."""
    return reader.first(PersonWithPassword, _OWNER)


def person_named(reader: Reader, name: str) -> PersonWithPassword | None:
    """Return a person by name."""
    return reader.first(PersonWithPassword, _PERSON_NAMED, (name,))


def person_with(reader: Reader, secret_hash: bytes, kind: PassKind, now_ms: int) -> Person | None:
    """Return the person with a valid pass of that kind."""
    values = {"hash": secret_hash, "kind": kind, "now_ms": now_ms, "idle_ms": SESSION_IDLE_MS}
    row = reader.first(PersonWithPass, _PERSON_WITH, values)
    if row is None:
        return None
    only = None if row.apps is None else frozenset[int](json.loads(row.apps))
    return Person(
        row.id,
        row.name,
        row.role,
        bool(row.has_password),
        bool(row.has_codes),
        row.pass_id,
        row.scope,
        Sight(only, frozenset[int](json.loads(row.hidden))),
        row.created_ms if row.by_link else None,
        row.used_ms,
        _until_ms(row, kind),
    )


def _until_ms(row: PersonWithPass, kind: PassKind) -> int | None:
    ends_ms = [] if row.expires_ms is None else [row.expires_ms]
    if kind == "session":
        ends_ms.append((row.used_ms or row.created_ms) + SESSION_IDLE_MS)
    return min(ends_ms, default=None)


def is_good(reader: Reader, pass_id: str, now_ms: int) -> bool:
    """Whether a pass is still valid."""
    return reader.row(_IS_GOOD, {"id": pass_id, "now_ms": now_ms, "idle_ms": SESSION_IDLE_MS}) is not None


def touch(connection: sqlite3.Connection, pass_id: str, now_ms: int) -> None:
    """Record that a pass is used."""
    connection.execute(_TOUCH, {"id": pass_id, "now_ms": now_ms})


def passes_of(reader: Reader, person_id: int, kind: PassKind, now_ms: int) -> list[Pass]:
    """Return a person's sessions or personal tokens, without their secrets."""
    values = {"person_id": person_id, "kind": kind, "now_ms": now_ms, "idle_ms": SESSION_IDLE_MS}
    return reader.all(Pass, _PASSES, values)


def try_sign_in(connection: sqlite3.Connection, name: str, address: str, now_ms: int, most: tuple[int, int]) -> int:
    """Count a password attempt before the password is checked; return how long to wait in ms when there were too
    many, else 0. ``most`` has the attempts in the window for one name from anywhere, and from one address for any
    name.
    """
    # The attempt is written before the password is checked: many at once cannot all pass before one of them counts.
    values = {"name": name, "address": address, "now_ms": now_ms, "window_ms": TRY_WINDOW_MS}
    connection.execute(_FORGET_TRIES, values)
    tries = connection.execute(_TRIES, values).fetchone()
    waits = [
        (tries[first] or now_ms) + TRY_WINDOW_MS - now_ms
        for count, first, bound in (("of_name", "first_of_name", most[0]), ("of_address", "first_of_address", most[1]))
        if (tries[count] or 0) >= bound
    ]
    if waits:
        return max(1000, min(TRY_WINDOW_MS, *waits, TRY_WINDOW_MS))
    connection.execute(_TRY, values)
    return 0


def forget_tries(connection: sqlite3.Connection, name: str, address: str) -> None:
    """After a sign-in: clear earlier attempts with that name from that address."""
    connection.execute(_FORGET_ONES, {"name": name, "address": address})


def acts(reader: Reader, *, act: str, person: str, span_ms: tuple[int, int], before: int, most: int) -> list[Act]:
    """Return the acts between two times, newest first."""
    values = {"act": act, "person": person, "before": before, "most": most, "from_ms": span_ms[0], "to_ms": span_ms[1]}
    return reader.all(Act, _ACTS, values)


def act_kinds(reader: Reader) -> list[str]:
    """Return which kinds of acts are on record."""
    return reader.column(str, _ACT_KINDS)


def add_owner(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """Make the owner and return the id."""
    return int(connection.execute(_ADD_OWNER, (name, now_ms)).lastrowid or 0)


def add_pass(
    connection: sqlite3.Connection,
    *,
    secret_hash: bytes,
    pass_id: str,
    kind: PassKind,
    person_id: int,
    label: str,
    now_ms: int,
    expires_ms: int | None,
    scope: Scope = "administer",
    by_link: bool = False,
    apps: list[int] | None = None,
) -> None:
    """Store a new pass; ``apps`` are the numbers of its apps, None for all that its person sees."""
    values = {"hash": secret_hash, "id": pass_id, "kind": kind, "person_id": person_id, "label": label}
    values |= {"now_ms": now_ms, "expires_ms": expires_ms, "scope": scope, "by_link": int(by_link)}
    values["apps"] = None if apps is None else json.dumps(apps)
    connection.execute(_ADD_PASS, values)


def add_link(connection: sqlite3.Connection, secret_hash: bytes, pass_id: str, now_ms: int, expires_ms: int) -> None:
    """Store a sign-in link of the owner; raises NotThere before the first start. It may be called beside a running service."""
    row = connection.execute(_OWNER).fetchone()
    if row is None:
        raise NotThere("nobody is there who could sign in")
    add_pass(
        connection,
        secret_hash=secret_hash,
        pass_id=pass_id,
        kind="link",
        person_id=int(row[0]),
        label="sign-in link",
        now_ms=now_ms,
        expires_ms=expires_ms,
    )


def use_link(connection: sqlite3.Connection, secret_hash: bytes, now_ms: int) -> int:
    """Use a sign-in link up and return its person; raises NotThere when it is unknown, used or too old."""
    row = connection.execute(_USE_LINK, {"hash": secret_hash, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere("this sign-in link was used already, is too old, or was never given out")
    return int(row[0])


def end_pass(connection: sqlite3.Connection, pass_id: str, person_id: int, now_ms: int) -> None:
    """End a pass of that person; raises NotThere when there is none to end."""
    done = connection.execute(_END_PASS, {"id": pass_id, "person_id": person_id, "now_ms": now_ms})
    if done.rowcount == 0:
        raise NotThere("there is no such pass, or it has ended")


def set_password(
    connection: sqlite3.Connection, person_id: int, hashed: str, *, keep_pass: str, now_ms: int, tokens: bool = False
) -> list[str]:
    """Set a password and end all other sessions and links of that person, with ``tokens`` also the tokens; return what ended."""
    connection.execute(_SET_PASSWORD, (hashed, person_id))
    values = {"person_id": person_id, "now_ms": now_ms, "keep": keep_pass, "tokens": int(tokens)}
    return column_of(connection.execute(_END_OTHER_SESSIONS, values), str)


def note_act(connection: sqlite3.Connection, person_id: int | None, act: str, subject: str, now_ms: int) -> None:
    """Add an act to the record."""
    connection.execute(_ADD_ACT, (now_ms, person_id, act, subject[:300]))
    events.add(connection, "act", now_ms, act=act)
