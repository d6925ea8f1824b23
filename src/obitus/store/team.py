"""People: roles, invitations, the limited apps that they see, and the secrets of their one-time codes."""

from __future__ import annotations

import json
import sqlite3
from typing import Final

from obitus.store.database import Reader, column_of
from obitus.store.errors import AlreadyThere, LastOwner, NotThere, TooMany
from obitus.store.rows.people import Invitation, Role, Somebody, UsedInvitation

MOST_PEOPLE: Final = 500

_EVERYBODY = """
SELECT people.id, people.name, people.role, people.created_ms, people.password IS NOT NULL AS has_password,
  people.code_secret IS NOT NULL AS has_codes, people.subject,
  (SELECT MAX(COALESCE(used_ms, created_ms)) FROM passes WHERE person_id = people.id AND kind <> 'link') AS used_ms,
  (SELECT json_group_array(apps.name) FROM app_people JOIN apps ON apps.id = app_people.app_id AND apps.removed_ms IS NULL
   WHERE app_people.person_id = people.id) AS apps
FROM people WHERE people.removed_ms IS NULL ORDER BY people.name"""
_ID = "SELECT id, role FROM people WHERE name = ? AND removed_ms IS NULL"
_TAKEN = "SELECT 1 FROM people WHERE name = ?"
_OWNERS = "SELECT COUNT(*) FROM people WHERE role = 'owner' AND removed_ms IS NULL"
_COUNT = "SELECT COUNT(*) FROM people"
_ADD = """
INSERT INTO people (name, role, password, issuer, subject, created_ms)
VALUES (:name, :role, :password, :issuer, :subject, :now_ms) ON CONFLICT (name) DO NOTHING RETURNING id"""
_SET_ROLE = "UPDATE people SET role = ? WHERE id = ?"
_REMOVE = "UPDATE people SET removed_ms = ?, password = NULL, code_secret = NULL, code_offered = NULL, issuer = NULL, subject = NULL WHERE id = ?"
_END_ALL = "UPDATE passes SET ended_ms = ? WHERE person_id = ? AND ended_ms IS NULL RETURNING id"
_HANDS_BACK = """
INSERT INTO issue_history (issue_id, time_ms, from_state, to_state, reason)
SELECT id, :now_ms, state, state, :reason FROM issues WHERE holder_id = :id"""
_HAS_NOTHING = "UPDATE issues SET holder_id = NULL WHERE holder_id = ?"
_NO_APPS = "DELETE FROM app_people WHERE person_id = ?"
_NO_PEOPLE = "DELETE FROM app_people WHERE app_id = ?"
_SEES = "INSERT INTO app_people (app_id, person_id) VALUES (?, ?) ON CONFLICT DO NOTHING"
_LIMIT = "UPDATE apps SET limited = ? WHERE id = ? AND removed_ms IS NULL"
_WHO_SEES = """
SELECT people.name FROM app_people JOIN people ON people.id = app_people.person_id AND people.removed_ms IS NULL
WHERE app_people.app_id = ? ORDER BY people.name"""
_LIMITED = "SELECT id FROM apps WHERE limited = 1 AND removed_ms IS NULL"
_APP_ID = "SELECT id FROM apps WHERE name = ? AND removed_ms IS NULL"
_INVITE = """
INSERT INTO invitations (hash, id, label, role, apps, made_by, created_ms, expires_ms)
VALUES (:hash, :id, :label, :role, :apps, :made_by, :now_ms, :expires_ms)"""
_INVITATIONS = """
SELECT invitations.id, label, invitations.role, apps, people.name AS made_by, invitations.created_ms, expires_ms
FROM invitations JOIN people ON people.id = made_by
WHERE ended_ms IS NULL AND expires_ms > ? ORDER BY invitations.created_ms"""
_INVITED = "SELECT id, label, role, apps FROM invitations WHERE hash = ? AND ended_ms IS NULL AND expires_ms > ?"
# One statement: of two browsers that open a link at the same moment only one succeeds.
_USE_INVITATION = """
UPDATE invitations SET ended_ms = :now_ms WHERE hash = :hash AND ended_ms IS NULL AND expires_ms > :now_ms
RETURNING id, label, role, apps"""
_CAME_BY = "UPDATE invitations SET person_id = ? WHERE hash = ?"
_WITHDRAW = "UPDATE invitations SET ended_ms = :now_ms WHERE id = :id AND ended_ms IS NULL"
_OFFER_CODES = "UPDATE people SET code_offered = ? WHERE id = ?"
_OFFERED = "SELECT code_offered FROM people WHERE id = ?"
_USE_CODES = "UPDATE people SET code_secret = :secret, code_offered = NULL, code_step = :step WHERE id = :id AND code_offered = :secret"
_USE_CODE = "UPDATE people SET code_step = :step WHERE id = :id AND code_step < :step"
_NO_CODES = "UPDATE people SET code_secret = NULL, code_offered = NULL WHERE id = ? AND code_secret IS NOT NULL"
_RENEW = "UPDATE people SET password = :new WHERE id = :id AND password = :old"
_CANNOT_SEE = """
SELECT 1 FROM apps WHERE id = ? AND limited = 1
  AND NOT EXISTS (SELECT 1 FROM app_people WHERE person_id = ? AND app_id = ?)"""
_IS_SEEN: Final = {
    "issues": "SELECT 1 FROM issues WHERE CAST(id AS TEXT) = ?",
    "quiet": "SELECT 1 FROM quiet_failures WHERE CAST(id AS TEXT) = ?",
    "regroupings": "SELECT 1 FROM regroupings WHERE CAST(id AS TEXT) = ?",
    "apps": "SELECT 1 FROM apps WHERE name = ?",
}
_BY_SUBJECT = "SELECT name FROM people WHERE issuer = ? AND subject = ? AND removed_ms IS NULL"
_VOUCHED = "UPDATE people SET issuer = ?, subject = ? WHERE id = ?"


def everybody(reader: Reader) -> list[Somebody]:
    """Return the people, by name."""
    return reader.all(Somebody, _EVERYBODY)


def is_taken(connection: sqlite3.Connection, name: str) -> bool:
    """Whether a name is used, or was used."""
    return connection.execute(_TAKEN, (name,)).fetchone() is not None


def named(connection: sqlite3.Connection, name: str) -> tuple[int, Role]:
    """Return number and role of a person; raises NotThere."""
    row = connection.execute(_ID, (name,)).fetchone()
    if row is None:
        raise NotThere(f"nobody here is named {name!r}")
    return int(row["id"]), row["role"]


def add(
    connection: sqlite3.Connection,
    name: str,
    role: Role,
    now_ms: int,
    *,
    password: str | None = None,
    vouched: tuple[str, str] | None = None,
    apps: list[int] | None = None,
) -> int:
    """Add a person and return their number; ``apps`` are the limited ones that they see. Raises AlreadyThere and
    TooMany. ``vouched`` are issuer and subject of OpenID Connect. The name of a removed person is not free.
    """
    if connection.execute(_COUNT).fetchone()[0] >= MOST_PEOPLE:
        raise TooMany(f"there are {MOST_PEOPLE} people already, those who were removed included")
    issuer, subject = vouched or (None, None)
    values = {"name": name, "role": role, "password": password, "issuer": issuer, "subject": subject, "now_ms": now_ms}
    row = connection.execute(_ADD, values).fetchone()
    if row is None:
        raise AlreadyThere(f"the name {name!r} is taken, or was. Choose another.")
    connection.executemany(_SEES, [(app_id, row[0]) for app_id in apps or ()])
    return int(row[0])


def set_role(connection: sqlite3.Connection, name: str, role: Role) -> None:
    """Change the role of a person; raises NotThere, and LastOwner where no owner would be left."""
    person_id, before = named(connection, name)
    if before == "owner" and role != "owner":
        _keep_an_owner(connection, name)
    connection.execute(_SET_ROLE, (role, person_id))


def remove(connection: sqlite3.Connection, name: str, now_ms: int) -> list[str]:
    """Remove a person, and return their passes. The record keeps their name; their issues belong to nobody. Raises
    NotThere and LastOwner.
    """
    person_id, role = named(connection, name)
    if role == "owner":
        _keep_an_owner(connection, name)
    connection.execute(_REMOVE, (now_ms, person_id))
    connection.execute(_NO_APPS, (person_id,))
    reason = f"{name} has left: it is unassigned now."
    connection.execute(_HANDS_BACK, {"id": person_id, "now_ms": now_ms, "reason": reason})
    connection.execute(_HAS_NOTHING, (person_id,))
    return column_of(connection.execute(_END_ALL, (now_ms, person_id)), str)


def _keep_an_owner(connection: sqlite3.Connection, name: str) -> None:
    if connection.execute(_OWNERS).fetchone()[0] <= 1:
        raise LastOwner(f"{name} is the only owner. Make somebody else one first.")


def limit_app(connection: sqlite3.Connection, app: str, names: list[str] | None) -> None:
    """Limit an app to these people and owners; with None remove the limit. Raises NotThere."""
    app_id = app_number(connection, app)
    connection.execute(_LIMIT, (int(names is not None), app_id))
    connection.execute(_NO_PEOPLE, (app_id,))
    connection.executemany(_SEES, [(app_id, named(connection, name)[0]) for name in names or ()])


def who_sees(reader: Reader, app_id: int) -> list[str]:
    """Return the names of the people to whom an app is limited."""
    return reader.column(str, _WHO_SEES, (app_id,))


def may_have(connection: sqlite3.Connection, name: str, app_id: int) -> int:
    """Return the number of a person who may decide about an app's issues; raises NotThere for anybody else."""
    person_id, role = named(connection, name)
    if role == "reader":
        raise NotThere(f"{name} is a reader, who decides nothing: an issue cannot be handed to them")
    if role != "owner" and connection.execute(_CANNOT_SEE, (app_id, person_id, app_id)).fetchone() is not None:
        raise NotThere(f"{name} does not see this app: an owner can change that in Set-up")
    return person_id


def limited(reader: Reader) -> set[int]:
    """Return the numbers of the apps that only some people see."""
    return set(reader.column(int, _LIMITED))


def app_number(connection: sqlite3.Connection, name: str) -> int:
    """Return an app's number; raises NotThere."""
    row = connection.execute(_APP_ID, (name,)).fetchone()
    if row is None:
        raise NotThere(f"there is no app named {name!r}")
    return int(row[0])


def invite(
    connection: sqlite3.Connection,
    *,
    secret_hash: bytes,
    invitation_id: str,
    label: str,
    role: Role,
    apps: list[str],
    made_by: int,
    now_ms: int,
    expires_ms: int,
) -> None:
    """Store an invitation; raises NotThere where an app does not exist."""
    values = {"hash": secret_hash, "id": invitation_id, "label": label, "role": role, "made_by": made_by}
    values |= {"apps": json.dumps([app_number(connection, app) for app in apps])}
    connection.execute(_INVITE, values | {"now_ms": now_ms, "expires_ms": expires_ms})


def invitations(reader: Reader, now_ms: int) -> list[Invitation]:
    """Return the open ones, oldest first."""
    return reader.all(Invitation, _INVITATIONS, (now_ms,))


def invitation_with(reader: Reader, secret_hash: bytes, now_ms: int) -> UsedInvitation | None:
    """Return the open invitation with that secret, without using it up."""
    return reader.first(UsedInvitation, _INVITED, (secret_hash, now_ms))


def use_invitation(
    connection: sqlite3.Connection,
    secret_hash: bytes,
    name: str,
    now_ms: int,
    *,
    password: str | None = None,
    vouched: tuple[str, str] | None = None,
) -> int:
    """Use an invitation up and add the person; return their number. Raises NotThere, and AlreadyThere for a taken name."""
    row = connection.execute(_USE_INVITATION, {"hash": secret_hash, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere("this invitation was used or withdrawn, is too old, or was never given out. Ask for another")
    apps = json.loads(row["apps"])
    person_id = add(connection, name, row["role"], now_ms, password=password, vouched=vouched, apps=apps)
    connection.execute(_CAME_BY, (person_id, secret_hash))
    return person_id


def withdraw(connection: sqlite3.Connection, invitation_id: str, now_ms: int) -> None:
    """Revoke an invitation; raises NotThere."""
    if connection.execute(_WITHDRAW, {"id": invitation_id, "now_ms": now_ms}).rowcount == 0:
        raise NotThere("there is no such invitation, or it was used or withdrawn")


def offer_codes(connection: sqlite3.Connection, person_id: int, secret: str) -> None:
    """Store the secret of one-time codes, until the first code confirms it."""
    connection.execute(_OFFER_CODES, (secret, person_id))


def offered_codes(reader: Reader, person_id: int) -> str | None:
    """Return the unconfirmed secret of a person."""
    found: str | None = reader.one(_OFFERED, (person_id,), what="person")["code_offered"]
    return found


def use_codes(connection: sqlite3.Connection, person_id: int, secret: str, step: int) -> None:
    """Require one-time codes from now on; ``step`` is the period of the first one. Raises NotThere where another
    secret was offered."""
    if connection.execute(_USE_CODES, {"id": person_id, "secret": secret, "step": step}).rowcount == 0:
        raise NotThere("these codes were not offered, or others after them. Begin again")


def use_code(connection: sqlite3.Connection, person_id: int, step: int) -> bool:
    """Record that the code of a period was used; return whether it was still valid: each works once."""
    return connection.execute(_USE_CODE, {"id": person_id, "step": step}).rowcount == 1


def stop_codes(connection: sqlite3.Connection, person_id: int) -> None:
    """Remove the one-time codes of a person; raises NotThere."""
    if connection.execute(_NO_CODES, (person_id,)).rowcount == 0:
        raise NotThere("no one-time codes are asked for")


def renew_password(connection: sqlite3.Connection, person_id: int, old: str, new: str) -> None:
    """Store a password with the present kind of hash, where it is still the one that was checked."""
    connection.execute(_RENEW, {"id": person_id, "old": old, "new": new})


def vouched_for(reader: Reader, issuer: str, subject: str) -> str | None:
    """Return the name of the person with a subject of an OpenID provider."""
    subjects = reader.column(str, _BY_SUBJECT, (issuer, subject))
    return subjects[0] if subjects else None


def vouch(connection: sqlite3.Connection, person_id: int, issuer: str, subject: str) -> None:
    """Let a person sign in by an OpenID provider from now on."""
    connection.execute(_VOUCHED, (issuer, subject, person_id))


def is_seen(reader: Reader, kind: str, number: str) -> bool:
    """Whether a reader sees an issue, quiet failure, regrouping or app (by its name)."""
    return reader.row(_IS_SEEN[kind], (number,)) is not None
