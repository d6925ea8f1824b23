"""Periodic work: notifying others of firings that nobody has accepted, writing digests, removing old records."""

from __future__ import annotations

import logging
import time
from functools import partial
from typing import Any, Final

from obitus.core.alerting.pacing import PacingTrouble, is_weekly, next_digest_ms
from obitus.core.clock import DAY_MS, to_text
from obitus.core.headline import Headline
from obitus.core.priority import LEVELS, weigh
from obitus.core.wording import count_of, minute_of, span
from obitus.service.alerting.active_rules import RuleBook, to_of, uids
from obitus.service.alerting.periodic import Turns
from obitus.service.clock import Clock
from obitus.store import issues as issue_store
from obitus.store import priorities, quiet, shifts
from obitus.store.alerts import channels, firings, messages
from obitus.store.alerts.messages import About
from obitus.store.errors import NotThere
from obitus.store.records import Records
from obitus.store.rows.alerts import Channel, FiringRow
from obitus.store.windows import Window

_log = logging.getLogger("obitus.service")

EVERY_S: Final = 2.0
PRUNE_EVERY_S: Final = 600.0
MOST_LISTED: Final = 15


class PeriodicAlerts:
    """Does due work every two seconds."""

    def __init__(self, records: Records, clock: Clock, book: RuleBook, home: str) -> None:
        self._records, self._clock, self._book, self._home = records, clock, book, home
        self._prunes_next_s = 0.0
        self.turns = Turns(
            "obitus-alert-clock",
            self._turn,
            lambda: EVERY_S,
            waits="due work waits",
            broke="due work could not be done",
        )

    def look(self) -> None:
        """Do what is due now."""
        now_ms = self._clock.now_ms()
        for row in firings.to_escalate(self._records.reader, now_ms):
            self._escalate(row, now_ms)
        for channel in channels.due_digests(self._records.reader, now_ms):
            self._digest(channel, now_ms)

    def _turn(self) -> None:
        self.look()
        self._prune()

    def _escalate(self, row: FiringRow, now_ms: int) -> None:
        """Escalate, unless somebody has taken care of it in another way, or it is over."""
        taken = self._taken_up(row)
        rule = self._book.of(row.rule_id)

        def write(connection: Any) -> None:
            if taken:
                firings.accept(connection, row.id, taken, now_ms)
            else:
                to = [] if rule is None else to_of(rule.escalates_to, now_ms)
                firings.escalate(connection, row, to, uids(), now_ms)

        self._records.writer.run(write)

    def _taken_up(self, row: FiringRow) -> str:
        """Return in words why others need not be notified any more, '' where it is."""
        if row.over_ms is not None:
            return "over before anybody had to accept it"
        if row.issue_id is None:
            return ""
        try:
            issue = issue_store.issue(self._records.reader, row.issue_id)
        except NotThere:
            return "its issue is gone"
        if issue.holder:
            return f"{issue.holder} has the issue"
        return "" if issue.state in ("untriaged", "regressed") else f"the issue is {issue.state}"

    def _digest(self, channel: Channel, now_ms: int) -> None:
        try:
            next_ms = next_digest_ms(channel.digest_at, channel.digest_zone, now_ms)
        except PacingTrouble as trouble:
            _log.warning("the digest of the channel %s cannot be understood: %s", channel.name, trouble)
            self._records.writer.run(partial(channels.next_digest, number=channel.id, next_ms=None))
            return
        length_ms = 7 * DAY_MS if is_weekly(channel.digest_at) else DAY_MS
        text = digest_text(self._records, channel.digest_next_ms or now_ms, length_ms, self._home)

        def write(connection: Any) -> None:
            about = About(f"digest of {channel.name}", "digest", now_ms)
            messages.add(connection, channel.id, about, next(uids()), now_ms, text)
            channels.next_digest(connection, channel.id, next_ms)

        self._records.writer.run(write)

    def _prune(self) -> None:
        if time.monotonic() < self._prunes_next_s:
            return
        self._prunes_next_s = time.monotonic() + PRUNE_EVERY_S
        now_ms = self._clock.now_ms()
        for prune in (messages.prune, firings.prune):
            while self._records.writer.run(partial(prune, now_ms=now_ms)) and not self.turns.stopping.wait(0.02):
                pass


def digest_text(records: Records, end_ms: int, length_ms: int, home: str) -> str:
    """Return the changes of a day or a week: the title on the first line, then the most important first."""
    reader = records.reader
    window = Window(end_ms - length_ms, end_ms)
    changes = shifts.changes(reader, window)
    by_kind: dict[str, list[Any]] = {"new": [], "regressed": [], "back from parked": [], "settled": []}
    for row in changes:
        kind = (
            "new" if row.from_state is None
            else "regressed" if row.to_state == "regressed" and row.from_state != "regressed"
            else "back from parked" if row.from_state == "parked" and row.to_state == "untriaged" and row.person is None
            else "settled" if row.to_state == "settled" and row.from_state != "settled"
            else ""
        )  # fmt: skip
        if kind:
            by_kind[kind].append(row)
    sums = issue_store.sums(reader, window)
    fired = firings.latest(reader, window.from_ms, window.to_ms)
    counts = [f"{len(rows)} {kind}" for kind, rows in by_kind.items() if rows] or ["nothing new"]
    lines = [
        f"{'A week' if length_ms > DAY_MS else 'A day'} in {span(length_ms)}: {', '.join(counts)}".replace(
            " in 24 h", ""
        ).replace(" in 7 days", ""),
        "",
        f"From {minute_of(to_text(window.from_ms))} to {minute_of(to_text(window.to_ms))} UTC: "
        f"{count_of(sums.failures, 'failure')} of {count_of(sums.issues, 'issue')}, {count_of(len(fired), 'alert')}.",
    ]
    for kind, rows in by_kind.items():
        lines += _listed(records, kind, rows, end_ms, home)
    present = [row for row in quiet.present(reader) if row.left_ms is None]
    if present:
        lines += ["", "Quiet failures now:"]
        lines += [f"  {row.app}: {row.subject}. {row.reason}" for row in present[:MOST_LISTED]]
    if fired:
        lines += ["", "Alerts:"]
        lines += [f"  {minute_of(to_text(row.begun_ms))[5:]} {row.rule}: {row.reason}" for row in fired[:MOST_LISTED]]
    return "\n".join([*lines, "", f"All of it: {home}/shift"])


def _listed(records: Records, kind: str, rows: list[Any], now_ms: int, home: str) -> list[str]:
    if not rows:
        return []
    numbers = list(dict.fromkeys(row.issue_id for row in rows))
    issues = issue_store.numbered(records.reader, numbers)
    facts = priorities.facts_of(records.reader, issues, now_ms)
    weighed = {issue.id: weigh(facts[issue.id], now_ms) for issue in issues}
    issues.sort(key=lambda issue: (LEVELS.index(weighed[issue.id].level), -weighed[issue.id].score))
    lines = ["", f"{kind[:1].upper()}{kind[1:]}:"]
    for issue in issues[:MOST_LISTED]:
        title = Headline(issue.type, issue.cause, issue.place).title
        people = f", {count_of(issue.users, 'person', 'people')}" if issue.users else ""
        lines.append(
            f"  {title} ({issue.app}): {count_of(issue.failures_in_all, 'failure')}{people}. {home}/issues/{issue.id}"
        )
    if len(issues) > MOST_LISTED:
        lines.append(f"  and {len(issues) - MOST_LISTED} more")
    return lines
