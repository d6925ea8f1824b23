"""Channels, and quiet hours of people. Functions that change something run on the writer; secrets are passed in encrypted."""

from __future__ import annotations

import sqlite3
from dataclasses import dataclass
from typing import Final

from obitus.store.database import Reader
from obitus.store.errors import AlreadyThere, NotThere, TooMany
from obitus.store.rows.alerts import Channel, ChannelKind, ChannelState

MOST_CHANNELS: Final = 200

_COLUMNS: Final = """
SELECT c.id, c.name, c.kind, c.settings, c.secrets, c.template, whose.name AS person, c.person_id, c.digest_at, c.digest_zone,
  c.digest_next_ms, maker.name AS made_by, c.changed_ms, q.hours AS quiet_hours, q.zone AS quiet_zone
FROM channels c JOIN people maker ON maker.id = c.made_by LEFT JOIN people whose ON whose.id = c.person_id
LEFT JOIN quiet_hours q ON q.person_id = c.person_id WHERE c.removed_ms IS NULL"""
_ALL: Final = f"{_COLUMNS} ORDER BY c.name"
_NAMED: Final = f"{_COLUMNS} AND c.name = ?"
_ONE: Final = f"{_COLUMNS} AND c.id = ?"
_DIGESTS: Final = f"{_COLUMNS} AND c.digest_next_ms IS NOT NULL AND c.digest_next_ms <= ? ORDER BY c.digest_next_ms"
_COUNT: Final = "SELECT COUNT(*) FROM channels WHERE removed_ms IS NULL"
_PERSON: Final = "SELECT id FROM people WHERE name = ? AND removed_ms IS NULL"
_ADD: Final = """
INSERT INTO channels (name, kind, settings, secrets, template, person_id, digest_at, digest_zone, digest_next_ms, made_by, changed_ms)
VALUES (:name, :kind, :settings, :secrets, :template, :person_id, :digest_at, :digest_zone, :digest_next_ms, :made_by, :now_ms)
ON CONFLICT DO NOTHING RETURNING id"""
_CHANGE: Final = """
UPDATE channels SET settings = :settings, secrets = COALESCE(:secrets, secrets), template = :template, person_id = :person_id,
  digest_at = :digest_at, digest_zone = :digest_zone, digest_next_ms = :digest_next_ms, changed_ms = :now_ms
WHERE name = :name AND kind = :kind AND removed_ms IS NULL RETURNING id"""
_REMOVE: Final = (
    "UPDATE channels SET removed_ms = :now_ms, secrets = NULL WHERE name = :name AND removed_ms IS NULL RETURNING id"
)
_NO_RULES: Final = "DELETE FROM alert_rule_channels WHERE channel_id = ?"
_NO_MESSAGES: Final = """
UPDATE messages SET given_up_ms = :now_ms, answer = 'The channel was removed.' WHERE channel_id = :id AND delivered_ms IS NULL AND given_up_ms IS NULL"""
_TRY_NOW: Final = """
UPDATE messages SET next_ms = :now_ms WHERE channel_id = :id AND delivered_ms IS NULL AND given_up_ms IS NULL AND tries > 0"""
_NEXT_DIGEST: Final = "UPDATE channels SET digest_next_ms = ? WHERE id = ?"
_STATES: Final = """
SELECT c.id AS channel_id,
  (SELECT COUNT(*) FROM messages m WHERE m.channel_id = c.id AND m.delivered_ms IS NULL AND m.given_up_ms IS NULL) AS waiting,
  n.made_ms AS oldest_ms, n.next_ms, COALESCE(n.tries, 0) AS tries, COALESCE(n.answer, '') AS answer,
  (SELECT MAX(delivered_ms) FROM messages m WHERE m.channel_id = c.id AND m.made_ms > :since_ms) AS delivered_ms,
  (SELECT COUNT(*) FROM messages m WHERE m.channel_id = c.id AND m.given_up_ms IS NOT NULL AND m.made_ms > :since_ms) AS given_up
FROM channels c LEFT JOIN messages n ON n.id = (
  SELECT MIN(m.id) FROM messages m WHERE m.channel_id = c.id AND m.delivered_ms IS NULL AND m.given_up_ms IS NULL)
WHERE c.removed_ms IS NULL"""
_QUIET: Final = """
INSERT INTO quiet_hours (person_id, hours, zone) VALUES (?, ?, ?)
ON CONFLICT DO UPDATE SET hours = excluded.hours, zone = excluded.zone"""
_NOT_QUIET: Final = "DELETE FROM quiet_hours WHERE person_id = ?"
_QUIET_OF: Final = "SELECT hours || ' ' || zone FROM quiet_hours WHERE person_id = ?"


@dataclass(frozen=True, slots=True)
class WantedChannel:
    """A channel as it is defined."""

    name: str
    kind: ChannelKind
    settings: str
    secrets: bytes | None
    template: str = ""
    person: str | None = None
    digest_at: str = ""
    digest_zone: str = "UTC"
    digest_next_ms: int | None = None


def channels(reader: Reader) -> list[Channel]:
    """Return all channels, by name."""
    return reader.all(Channel, _ALL)


def named(reader: Reader, name: str) -> Channel:
    """Return one channel; raises NotThere."""
    return reader.only(Channel, _NAMED, (name,), what=f"channel named {name!r}")


def channel(reader: Reader, number: int) -> Channel | None:
    """Return a channel by its number, None where it was removed."""
    return reader.first(Channel, _ONE, (number,))


def states(reader: Reader, since_ms: int) -> dict[int, ChannelState]:
    """Return the state of deliveries by channel; counts of delivered and given up ones since a time."""
    return {row.channel_id: row for row in reader.all(ChannelState, _STATES, {"since_ms": since_ms})}


def add(connection: sqlite3.Connection, wanted: WantedChannel, made_by: int, now_ms: int) -> int:
    """Add a channel and return its number; raises AlreadyThere, NotThere, TooMany."""
    if connection.execute(_COUNT).fetchone()[0] >= MOST_CHANNELS:
        raise TooMany(f"there are {MOST_CHANNELS} channels already; remove one first")
    row = connection.execute(_ADD, _values(connection, wanted, made_by, now_ms)).fetchone()
    if row is None:
        raise AlreadyThere(f"there is a channel named {wanted.name!r} already")
    return int(row[0])


def change(connection: sqlite3.Connection, wanted: WantedChannel, made_by: int, now_ms: int) -> int:
    """Change a channel and return its number; secrets that are not given stay. Waiting messages are tried at once. Raises NotThere."""
    row = connection.execute(_CHANGE, _values(connection, wanted, made_by, now_ms)).fetchone()
    if row is None:
        raise NotThere(f"there is no {wanted.kind} channel named {wanted.name!r}")
    connection.execute(_TRY_NOW, {"id": row[0], "now_ms": now_ms})
    return int(row[0])


def remove(connection: sqlite3.Connection, name: str, now_ms: int) -> int:
    """Remove a channel, with its secrets and its waiting messages. Raises NotThere."""
    row = connection.execute(_REMOVE, {"name": name, "now_ms": now_ms}).fetchone()
    if row is None:
        raise NotThere(f"there is no channel named {name!r}")
    connection.execute(_NO_RULES, (row[0],))
    connection.execute(_NO_MESSAGES, {"id": row[0], "now_ms": now_ms})
    return int(row[0])


def due_digests(reader: Reader, now_ms: int) -> list[Channel]:
    """Return the channels with a due digest."""
    return reader.all(Channel, _DIGESTS, (now_ms,))


def next_digest(connection: sqlite3.Connection, number: int, next_ms: int | None) -> None:
    """Keep when the next digest is due."""
    connection.execute(_NEXT_DIGEST, (next_ms, number))


def set_quiet_hours(connection: sqlite3.Connection, person_id: int, hours: str, zone: str) -> None:
    """Set the quiet hours of a person, or none."""
    if hours:
        connection.execute(_QUIET, (person_id, hours, zone))
    else:
        connection.execute(_NOT_QUIET, (person_id,))


def quiet_hours_of(reader: Reader, person_id: int) -> tuple[str, str]:
    """Return the quiet hours of a person and their zone; '' without quiet hours."""
    values = reader.column(str, _QUIET_OF, (person_id,))
    hours, _, zone = values[0].rpartition(" ") if values else ("", "", "UTC")
    return hours, zone


def _values(connection: sqlite3.Connection, wanted: WantedChannel, made_by: int, now_ms: int) -> dict[str, object]:
    person_id = None
    if wanted.person is not None:
        row = connection.execute(_PERSON, (wanted.person,)).fetchone()
        if row is None:
            raise NotThere(f"nobody here is named {wanted.person!r}")
        person_id = int(row[0])
    return {
        "name": wanted.name, "kind": wanted.kind, "settings": wanted.settings, "secrets": wanted.secrets, "template": wanted.template,
        "person_id": person_id, "digest_at": wanted.digest_at, "digest_zone": wanted.digest_zone, "digest_next_ms": wanted.digest_next_ms,
        "made_by": made_by, "now_ms": now_ms,
    }  # fmt: skip
