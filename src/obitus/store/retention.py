"""How long reports are kept: by kind and app, and by the room of everything. The oldest are removed first. Issues,
their counts and decisions stay. Of failures over their time, the first and the latest of each open issue stay, and
those of issues with notes or files.
"""

from __future__ import annotations

import json
import logging
import sqlite3
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from obitus.core.clock import DAY_MS
from obitus.core.days import MOST_IN_A_DAY, UNDATED, day_and_place, day_text, seq_of
from obitus.store.database import Reader
from obitus.store.days import removed, thinning
from obitus.store.days.files import path_of, written_of
from obitus.store.days.reading import DayReaders
from obitus.store.days.thinning import KINDS
from obitus.store.days.writing import WritingDays
from obitus.store.errors import UNREADABLE, StoreBusy
from obitus.store.records import Records
from obitus.store.removing_days import TRIES, remove_day
from obitus.store.rows.kept import AppNumber, KeptFor, ThinnedDay

_log = logging.getLogger("obitus.store")

USUAL_DAYS: Final[Mapping[str, int]] = {"failures": 90, "logs": 14, "healthy runs": 3, "other runs": 90}
MOST_DAYS: Final = 3650

_RULES: Final = "SELECT kind, app_id, days FROM kept_for ORDER BY kind, app_id"
_SET: Final = "INSERT OR REPLACE INTO kept_for (kind, app_id, days) VALUES (?, ?, ?)"
_UNSET: Final = "DELETE FROM kept_for WHERE kind = ? AND app_id = ?"
_WITHIN: Final = "SELECT bytes FROM kept_within"
_SET_WITHIN: Final = "INSERT OR REPLACE INTO kept_within (one, bytes) VALUES (1, ?)"
_UNSET_WITHIN: Final = "DELETE FROM kept_within"
_APPS: Final = "SELECT id, name FROM apps"
_THINNED: Final = "SELECT day, what, why, removed, bytes_before, bytes_after, thinned_ms FROM thinned ORDER BY day DESC"
_NOTE_THINNED: Final = """
INSERT INTO thinned (day, what, why, removed, bytes_before, bytes_after, thinned_ms) VALUES (?, ?, ?, ?, ?, ?, ?)
ON CONFLICT DO UPDATE SET what = excluded.what, why = excluded.why, removed = removed + excluded.removed,
  bytes_before = excluded.bytes_before, bytes_after = excluded.bytes_after, thinned_ms = excluded.thinned_ms"""
_MEANT: Final = """
SELECT id, first_seq, last_seq FROM issues WHERE state != 'settled'
UNION SELECT i.id, i.first_seq, i.last_seq FROM issues i JOIN notes n ON n.issue_id = i.id
UNION SELECT i.id, i.first_seq, i.last_seq FROM issues i JOIN attachments a ON a.issue_id = i.id"""
_KEPT: Final = f"""
WITH meant AS ({_MEANT})
SELECT first_seq FROM meant WHERE first_seq BETWEEN :from_seq AND :to_seq
UNION SELECT last_seq FROM meant WHERE last_seq BETWEEN :from_seq AND :to_seq
UNION SELECT h.seq FROM issue_history h JOIN meant ON meant.id = h.issue_id WHERE h.seq BETWEEN :from_seq AND :to_seq"""  # noqa: S608 - of constants
_HOLDS: Final = {
    "failures": "SELECT 1 FROM failures WHERE app_id IN (SELECT value FROM json_each(?)) AND place NOT IN (SELECT value FROM json_each(?)) LIMIT 1",
    "logs": "SELECT 1 FROM logs WHERE app_id IN (SELECT value FROM json_each(?)) AND place NOT IN (SELECT value FROM json_each(?)) LIMIT 1",
    "healthy runs": "SELECT 1 FROM runs WHERE outcome IN ('', 'ok') AND app_id IN (SELECT value FROM json_each(?)) AND place NOT IN (SELECT value FROM json_each(?)) LIMIT 1",
    "other runs": "SELECT 1 FROM runs WHERE outcome NOT IN ('', 'ok') AND app_id IN (SELECT value FROM json_each(?)) AND place NOT IN (SELECT value FROM json_each(?)) LIMIT 1",
}


@dataclass(frozen=True)
class DayRemoval:
    """The removal of one day."""

    day: int
    gone: dict[str, tuple[int, ...]]
    """By kind, the apps whose records are removed."""
    kept: tuple[int, ...]
    """Places of failures that stay nevertheless."""
    whole: bool
    """Whether nothing of it stays: then its file is deleted."""
    bytes: int
    """The size of its file now."""
    why: str

    @property
    def what(self) -> str:
        """Its entry in the record, which shows that it was done."""
        return json.dumps({"gone": self.gone, "kept": self.kept}, sort_keys=True)


def rules(reader: Reader) -> list[KeptFor]:
    """Return the settings, by kind and app."""
    return reader.all(KeptFor, _RULES)


def within(reader: Reader) -> int | None:
    """Return how many bytes the days may take, None without a bound."""
    totals = reader.column(int, _WITHIN)
    return totals[0] if totals else None


def thinned(reader: Reader) -> list[ThinnedDay]:
    """Return the days of which a part was removed, newest first."""
    return reader.all(ThinnedDay, _THINNED)


def keep_for(connection: sqlite3.Connection, kind: str, app_id: int, days: int | None) -> None:
    """Set for how many days a kind of an app (0 for all) is kept; 0 for ever, None for the default."""
    if days is None:
        connection.execute(_UNSET, (kind, app_id))
    else:
        connection.execute(_SET, (kind, app_id, days))


def keep_within(connection: sqlite3.Connection, octets: int | None) -> None:
    """Set how many bytes the days may take, None for no bound."""
    if octets is None:
        connection.execute(_UNSET_WITHIN)
    else:
        connection.execute(_SET_WITHIN, (octets,))


def days_of(rules: Iterable[KeptFor], kind: str, app_id: int) -> int:
    """Return for how many days a kind of an app is kept, 0 for ever: the setting of the app, else of all apps, else the default."""
    days = {(rule.kind, rule.app_id): rule.days for rule in rules}
    return days.get((kind, app_id), days.get((kind, 0), USUAL_DAYS[kind]))


def due(
    records: Records,
    now_ms: int,
    *,
    said: list[KeptFor] | None = None,
    most_bytes: int | None = None,
    by_age: bool = True,
    clean: dict[int, str] | None = None,
) -> list[DayRemoval]:
    """Return the removals due now, the oldest day first. ``said`` and ``most_bytes`` replace the stored settings,
    for a preview. Without ``by_age`` only what is beyond the room is due. ``clean`` caches between calls which days have nothing to remove: finding that out takes reading
    them.
    """
    reader, days = records.reader, records.days
    said = rules(reader) if said is None else said
    most_bytes = within(reader) if most_bytes is None else most_bytes
    apps = [app.id for app in reader.all(AppNumber, _APPS)]
    done = {one.day: one.what for one in thinned(reader)}
    remembered = {} if clean is None else clean
    steps: list[DayRemoval] = []
    today, room = now_ms // DAY_MS, 0
    for day in days.known():
        size = _size(path_of(days.folder, day.day))
        room += size
        # How old these records are is not known.
        if day.day == UNDATED:
            continue
        gone, why = _over(said, apps, today - day.day - 1) if by_age else ({}, "")
        # Newest first: `room` is what newer days take. Yesterday stays, too: late reports still arrive for it.
        if most_bytes is not None and room > most_bytes and day.day < today - 1:
            gone = {kind: tuple(sorted(apps)) for kind in KINDS}
            why = f"what is beyond {most_bytes / 1e9:,.1f} GB"
        if not gone:
            continue
        step = _step(reader, day.day, gone, size, why, set(apps))
        # Done under these settings, or found to have nothing to remove: a day is not read again for it.
        if step.what in (done.get(day.day), remembered.get(day.day)):
            continue
        if step.whole or _holds(days, step):
            steps.append(step)
        else:
            remembered[day.day] = step.what
    return steps[::-1]


def _over(rules: list[KeptFor], apps: list[int], age: int) -> tuple[dict[str, tuple[int, ...]], str]:
    """Return which kinds of which apps are over their time at an age in days, and why, in words."""
    gone: dict[str, tuple[int, ...]] = {}
    why: list[str] = []
    for kind in KINDS:
        over = sorted((app, days) for app in apps if 0 < (days := days_of(rules, kind, app)) <= age)
        if over:
            gone[kind] = tuple(app for app, _ in over)
            why.append(f"{kind} after {min(days for _, days in over)} days")
    return gone, ", ".join(why)


def _step(
    reader: Reader, day: int, gone: dict[str, tuple[int, ...]], size: int, why: str, apps: set[int]
) -> DayRemoval:
    failures_kept: tuple[int, ...] = ()
    if "failures" in gone:
        span = {"from_seq": seq_of(day, 0), "to_seq": seq_of(day, MOST_IN_A_DAY - 1)}
        failures_kept = tuple(sorted(day_and_place(seq)[1] for seq in reader.column(int, _KEPT, span)))
    everything = all(set(gone.get(kind, ())) >= apps for kind in KINDS)
    return DayRemoval(day, gone, failures_kept, everything and not failures_kept, size, why)


def _holds(days: DayReaders, step: DayRemoval) -> bool:
    """Whether a day's file has records that a step would remove."""
    try:
        with days.open(step.day, limit_s=60) as connection:
            return any(
                connection.execute(_HOLDS[kind], (json.dumps(apps), json.dumps(step.kept))).fetchone()
                for kind, apps in step.gone.items()
            )
    except UNREADABLE as error:
        _log.warning("%s is passed over: %s", day_text(step.day), error)
        return False


def remove(records: Records, step: DayRemoval, now_ms: int) -> int:
    """Carry out a removal; return how many bytes were freed. Raises StoreBusy where its day is written to all the time."""
    writer, days = records.writer, records.days
    path = path_of(days.folder, step.day)
    if step.whole:
        return step.bytes if remove_day(writer, days, step.day, now_ms, step.why) else 0
    for _ in range(TRIES):
        thinned = thinning.make(path, step.gone, step.kept, records.evidence.unpack)
        after = thinned.path.stat().st_size
        swapped = writer.run(_swapping(step, thinned, after, writer.days, now_ms))
        if swapped:
            days.forget(step.day)
            removed.delete(path)
            return max(0, step.bytes - after)
    raise StoreBusy(f"{day_text(step.day)} is written to all the time; it is tried again later")


def _swapping(
    step: DayRemoval, thinned_file: thinning.Thinner, after: int, writing: WritingDays, now_ms: int
) -> Callable[[sqlite3.Connection], bool]:
    def swap(connection: sqlite3.Connection) -> bool:
        """Replace the old file by the new one; return whether that was possible."""
        if not writing.let_be_removed(step.day):
            return False
        path = path_of(writing.folder, step.day)
        # A report that arrived while the new file was made would be lost with the old one.
        if written_of(path) != thinned_file.written or not thinned_file.path.exists():
            return False
        connection.execute(
            _NOTE_THINNED, (step.day, step.what, step.why, thinned_file.removed, step.bytes, after, now_ms)
        )
        removed.put_aside(path)
        thinned_file.path.replace(path)
        return True

    return swap


def _size(path: Path) -> int:
    total = 0
    for beside in ("", "-wal"):
        try:
            total += path.with_name(path.name + beside).stat().st_size
        except OSError:
            continue
    return total


def bytes_of_days(records: Records) -> int:
    """Return how many bytes the files of all days take."""
    return sum(_size(path_of(records.days.folder, known.day)) for known in records.days.known())
