"""Messages: delivered to channels, in order for each of them, with retries. Functions that change something run on the writer."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from typing import Final

from obitus.core.alerting.pacing import TOGETHER_MS
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.wording import minute_of
from obitus.store.database import Reader
from obitus.store.errors import NotThere
from obitus.store.rows.alerts import LinkAct, LinkRow, MessageKind, MessageOfFiring, MessageRow, WaitingChannel

KEPT_MS: Final = 90 * DAY_MS
LINKS_KEPT_MS: Final = 30 * DAY_MS
LINK_GOOD_MS: Final = 3 * DAY_MS
MOST_REMOVED: Final = 1000
CLOCKS_DIFFER_MS: Final = 60_000
"""A time so far ahead of now was written by a clock that was ahead."""
MOST_TOGETHER: Final = 200
"""Most firings of one message."""

_COLUMNS: Final = """
SELECT m.id, m.uid, m.channel_id, c.name AS channel, c.kind AS channel_kind, m.kind, m.subject, m.made_ms, m.due_ms, m.due_why, m.held_back,
  m.text, m.tries, m.next_ms, m.answer, m.delivered_ms, m.given_up_ms FROM messages m JOIN channels c ON c.id = m.channel_id"""
_AMONG: Final = """
WHERE m.id IN (SELECT message_id FROM message_firings WHERE firing_id IN (SELECT value FROM json_each(?))) ORDER BY m.id"""
_OF_FIRINGS: Final = f"{_COLUMNS}{_AMONG}"
_OF_CHANNEL: Final = f"{_COLUMNS} WHERE m.channel_id = ? ORDER BY m.id DESC LIMIT ?"
_ONE: Final = f"{_COLUMNS} WHERE m.id = ?"
# A message for later holds up nothing; one that was tried holds up later ones, to keep the order.
# A message made later than now does not wait any longer: the clock went back.
_HEAD: Final = f"""{_COLUMNS}
WHERE m.channel_id = :channel_id AND m.delivered_ms IS NULL AND m.given_up_ms IS NULL
  AND (m.due_ms <= :now_ms OR m.made_ms > :now_ms + :differ_ms) ORDER BY m.id LIMIT 1"""
# The first one of each channel: while it waits for another try, so do the later ones.
_WAITING: Final = """
SELECT m.channel_id FROM (
  SELECT MIN(id) AS id FROM messages WHERE delivered_ms IS NULL AND given_up_ms IS NULL
    AND (due_ms <= :now_ms OR made_ms > :now_ms + :differ_ms) GROUP BY channel_id) h
JOIN messages m ON m.id = h.id WHERE COALESCE(m.next_ms, 0) <= :now_ms OR m.next_ms > :now_ms + 3600000"""
_FIRINGS: Final = "SELECT firing_id FROM message_firings WHERE message_id = ? ORDER BY firing_id"
_TELLING: Final = """
SELECT firing_id, message_id FROM message_firings WHERE firing_id IN (SELECT value FROM json_each(?)) ORDER BY message_id"""
_NOT_BEGUN: Final = """
SELECT id, (SELECT COUNT(*) FROM message_firings f WHERE f.message_id = m.id) AS firings FROM messages m
WHERE channel_id = :channel_id AND subject = :subject AND kind = :kind AND tries = 0 AND delivered_ms IS NULL AND given_up_ms IS NULL
ORDER BY id DESC LIMIT 1"""
_LATEST: Final = """
SELECT made_ms FROM messages WHERE channel_id = :channel_id AND subject = :subject AND made_ms > :since_ms AND made_ms <= :now_ms
  AND kind <> 'over'
ORDER BY id DESC LIMIT 1"""
_ADD: Final = """
INSERT INTO messages (uid, channel_id, kind, subject, made_ms, due_ms, due_why, text)
VALUES (:uid, :channel_id, :kind, :subject, :now_ms, :due_ms, :due_why, :text) RETURNING id"""
_JOIN: Final = "INSERT INTO message_firings (message_id, firing_id) VALUES (?, ?) ON CONFLICT DO NOTHING"
_MORE: Final = "UPDATE messages SET held_back = held_back + 1 WHERE id = ?"
_BEGIN: Final = """
UPDATE messages SET tries = tries + 1, next_ms = :next_ms WHERE id = :id AND delivered_ms IS NULL AND given_up_ms IS NULL RETURNING tries"""
_DELIVERED: Final = "UPDATE messages SET delivered_ms = :now_ms, next_ms = NULL, answer = :answer WHERE id = :id"
_FAILED: Final = "UPDATE messages SET next_ms = :next_ms, answer = :answer WHERE id = :id"
_GIVEN_UP: Final = "UPDATE messages SET given_up_ms = :now_ms, next_ms = NULL, answer = :answer WHERE id = :id"
_OUT_AGAIN: Final = """
UPDATE messages SET given_up_ms = NULL, next_ms = :now_ms, made_ms = :now_ms WHERE id = :id AND given_up_ms IS NOT NULL RETURNING id"""
_ADD_LINK: Final = """
INSERT INTO message_links (hash, message_id, act, firing_id, expires_ms) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING"""
_LINK: Final = """
SELECT l.message_id, l.act, l.firing_id, l.expires_ms, l.used_ms, c.name AS channel FROM message_links l
JOIN messages m ON m.id = l.message_id JOIN channels c ON c.id = m.channel_id WHERE l.hash = ?"""
_USE_LINK: Final = "UPDATE message_links SET used_ms = :now_ms WHERE hash = :hash AND used_ms IS NULL AND expires_ms > :now_ms RETURNING hash"
_OLD: Final = (
    "DELETE FROM message_links WHERE hash IN (SELECT hash FROM message_links WHERE expires_ms < :links_ms LIMIT :most)",
    """DELETE FROM message_links WHERE message_id IN (
      SELECT id FROM messages WHERE made_ms < :before_ms AND (delivered_ms IS NOT NULL OR given_up_ms IS NOT NULL) ORDER BY made_ms LIMIT :most)""",
    """DELETE FROM message_firings WHERE message_id IN (
      SELECT id FROM messages WHERE made_ms < :before_ms AND (delivered_ms IS NOT NULL OR given_up_ms IS NOT NULL) ORDER BY made_ms LIMIT :most)""",
    """DELETE FROM messages WHERE id IN (
      SELECT id FROM messages WHERE made_ms < :before_ms AND (delivered_ms IS NOT NULL OR given_up_ms IS NOT NULL) ORDER BY made_ms LIMIT :most)""",
)


@dataclass(frozen=True, slots=True)
class About:
    """The subject of a message, and when it may be sent."""

    subject: str
    kind: MessageKind
    due_ms: int
    due_why: str = ""
    """Why it waits, if it does."""


def tell(connection: sqlite3.Connection, channel_id: int, about: About, firing_id: int, uid: str, now_ms: int) -> int:
    """Notify a channel of a firing, and return the message's number. The firing joins a message about the same
    subject that was not sent yet. Where one was sent a moment ago, it waits for others.
    """
    values = {"channel_id": channel_id, "subject": about.subject, "kind": about.kind}
    waiting = connection.execute(_NOT_BEGUN, values).fetchone()
    if waiting is not None:
        if waiting["firings"] < MOST_TOGETHER:
            connection.execute(_JOIN, (waiting["id"], firing_id))
        else:
            connection.execute(_MORE, (waiting["id"],))
        return int(waiting["id"])
    due_ms, why = about.due_ms, about.due_why
    latest = connection.execute(_LATEST, values | {"since_ms": now_ms - TOGETHER_MS, "now_ms": now_ms}).fetchone()
    if about.kind == "firing" and latest is not None and latest[0] + TOGETHER_MS > due_ms:
        due_ms = latest[0] + TOGETHER_MS
        why = (
            f"one about the same went out at {minute_of(to_text(latest[0]))[11:]}; what comes until then is one message"
        )
    number = add(connection, channel_id, About(about.subject, about.kind, due_ms, why), uid, now_ms)
    connection.execute(_JOIN, (number, firing_id))
    return number


def add(connection: sqlite3.Connection, channel_id: int, about: About, uid: str, now_ms: int, text: str = "") -> int:
    """Queue a message, and return its number."""
    values = {
        "uid": uid, "channel_id": channel_id, "kind": about.kind, "subject": about.subject, "now_ms": now_ms, "due_ms": about.due_ms,
        "due_why": about.due_why, "text": text,
    }  # fmt: skip
    return int(connection.execute(_ADD, values).fetchone()[0])


def join(connection: sqlite3.Connection, message_id: int, firing_ids: Iterable[int]) -> None:
    """Set the firings of a message."""
    connection.executemany(_JOIN, [(message_id, firing_id) for firing_id in firing_ids])


def waiting_channels(reader: Reader, now_ms: int) -> list[int]:
    """Return the channels with a message to be sent now."""
    return [
        row.channel_id
        for row in reader.all(WaitingChannel, _WAITING, {"now_ms": now_ms, "differ_ms": CLOCKS_DIFFER_MS})
    ]


def head(reader: Reader, channel_id: int, now_ms: int) -> MessageRow | None:
    """Return the next message of a channel, None where it waits for its time, or for another try."""
    row = reader.first(MessageRow, _HEAD, {"channel_id": channel_id, "now_ms": now_ms, "differ_ms": CLOCKS_DIFFER_MS})
    if row is None or row.next_ms is None or row.next_ms <= now_ms:
        return row
    # No message waits for so long: the clock went back.
    return row if row.next_ms - now_ms > HOUR_MS else None


def message(reader: Reader, number: int) -> MessageRow:
    """Return one message; raises NotThere."""
    return reader.only(MessageRow, _ONE, (number,), what=f"message {number}")


def firings_in(reader: Reader, message_id: int) -> list[int]:
    """Return the numbers of the firings of a message."""
    return reader.column(int, _FIRINGS, (message_id,))


def of_channel(reader: Reader, channel_id: int, most: int) -> list[MessageRow]:
    """Return the latest messages of a channel, the newest first."""
    return reader.all(MessageRow, _OF_CHANNEL, (channel_id, most))


def of_firings(reader: Reader, firing_ids: Collection[int]) -> dict[int, list[MessageRow]]:
    """Return the messages of some firings, by firing."""
    ids = json.dumps(list(firing_ids))
    rows = {row.id: row for row in reader.all(MessageRow, _OF_FIRINGS, (ids,))}
    messages: dict[int, list[MessageRow]] = {}
    for pair in reader.all(MessageOfFiring, _TELLING, (ids,)):
        messages.setdefault(pair.firing_id, []).append(rows[pair.message_id])
    return messages


def begin(connection: sqlite3.Connection, number: int, next_ms: int) -> int | None:
    """Record that a message is tried now, and return the number of the try; None where it is not to be sent any
    more. From here on no firing joins it. If the service is killed before it records the result, the message is
    tried again at ``next_ms``.
    """
    row = connection.execute(_BEGIN, {"id": number, "next_ms": next_ms}).fetchone()
    return None if row is None else int(row[0])


def delivered(connection: sqlite3.Connection, number: int, answer: str, now_ms: int) -> None:
    """Record that a message was delivered."""
    connection.execute(_DELIVERED, {"id": number, "answer": answer, "now_ms": now_ms})


def failed(connection: sqlite3.Connection, number: int, answer: str, next_ms: int) -> None:
    """Record that a try failed, and when the next one is."""
    connection.execute(_FAILED, {"id": number, "answer": answer, "next_ms": next_ms})


def given_up(connection: sqlite3.Connection, number: int, answer: str, now_ms: int) -> None:
    """Record that a message is given up."""
    connection.execute(_GIVEN_UP, {"id": number, "answer": answer, "now_ms": now_ms})


def send_again(connection: sqlite3.Connection, number: int, now_ms: int) -> None:
    """Queue a message again that was given up; raises NotThere."""
    if connection.execute(_OUT_AGAIN, {"id": number, "now_ms": now_ms}).fetchone() is None:
        raise NotThere(f"there is no message {number} that was given up")


def add_link(
    connection: sqlite3.Connection, link_hash: bytes, message_id: int, act: LinkAct, firing_id: int, now_ms: int
) -> None:
    """Store the action of a link in a message; the same link once."""
    connection.execute(_ADD_LINK, (link_hash, message_id, act, firing_id, now_ms + LINK_GOOD_MS))


def link(reader: Reader, link_hash: bytes) -> LinkRow | None:
    """Return the action of a link, used or not."""
    return reader.first(LinkRow, _LINK, (link_hash,))


def use_link(connection: sqlite3.Connection, link_hash: bytes, now_ms: int) -> None:
    """Use a link, once; raises NotThere."""
    if connection.execute(_USE_LINK, {"hash": link_hash, "now_ms": now_ms}).fetchone() is None:
        raise NotThere("this link was used already, or is too old")


def prune(connection: sqlite3.Connection, now_ms: int) -> int:
    """Remove old messages and links; return how many: at most some hundreds at a time."""
    values = {"before_ms": now_ms - KEPT_MS, "links_ms": now_ms - LINKS_KEPT_MS, "most": MOST_REMOVED}
    return sum(connection.execute(sql, values).rowcount for sql in _OLD)
