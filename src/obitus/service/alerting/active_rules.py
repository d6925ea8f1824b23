"""The alert rules in use: parsed once, with their channels, and read again when one is changed."""

from __future__ import annotations

import logging
import threading
import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated, Final

from obitus.core.alerting.conditions import Condition, read_condition
from obitus.core.alerting.pacing import PacingTrouble, Silence, read_quiet_hours
from obitus.core.asking.reading import QuestionTrouble
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.store.alerts import channels, rules
from obitus.store.alerts.firings import To
from obitus.store.records import Records
from obitus.store.rows.alerts import AlertRule, Channel

_log = logging.getLogger("obitus.service")

GOOD_MS: Final = 60_000
"""A question may have relative times: it is parsed again at this interval."""


@dataclass(frozen=True, slots=True)
class ActiveRule:
    """A rule that can be used."""

    row: AlertRule
    condition: Condition
    to: tuple[Channel, ...]
    escalates_to: tuple[Channel, ...]


class RuleBook:
    """The active rules. Safe to use from several threads."""

    def __init__(self, records: Records, clock: Clock) -> None:
        self._records, self._clock = records, clock
        self._lock = threading.Lock()
        self._known: list[ActiveRule] | None = None
        self._read_ms = 0
        self._silences: list[Silence] | None = None

    def changed(self) -> None:
        """Read everything again at the next use: a rule, a channel, quiet hours or a silence has changed."""
        with self._lock:
            self._known = self._silences = None

    def rules(self) -> list[ActiveRule]:
        """Return the valid rules; errors of the others are shown on their page."""
        now_ms = self._clock.now_ms()
        with self._lock:
            if self._known is None or abs(now_ms - self._read_ms) > GOOD_MS:
                self._known, self._read_ms = self._read(now_ms), now_ms
            return self._known

    def silences(self) -> list[Silence]:
        """Return the active and planned silences."""
        with self._lock:
            if self._silences is None:
                self._silences = [
                    rules.silence_of(row) for row in rules.silences(self._records.reader, self._clock.now_ms())
                ]
            return self._silences

    def of(self, rule_id: int) -> ActiveRule | None:
        """Return a rule by its number, None where it is not active."""
        return next((one for one in self.rules() if one.row.id == rule_id), None)

    def _read(self, now_ms: int) -> list[ActiveRule]:
        by_id = {channel.id: channel for channel in channels.channels(self._records.reader)}
        notified = rules.channels_of(self._records.reader)
        active = []
        for row in rules.active(self._records.reader):
            try:
                condition = read_condition(row.condition, now_ms)
            except QuestionTrouble as trouble:
                # It was valid when it was stored: the language has changed.
                _log.warning("the alert rule %r cannot be understood any more: %s", row.name, trouble)
                continue
            its = notified.get(row.id, [])
            active.append(
                ActiveRule(
                    row,
                    condition,
                    tuple(
                        by_id[notified.channel_id]
                        for notified in its
                        if not notified.escalates and notified.channel_id in by_id
                    ),
                    tuple(
                        by_id[notified.channel_id]
                        for notified in its
                        if notified.escalates and notified.channel_id in by_id
                    ),
                )
            )
        return active


def to_of(some: Sequence[Channel], now_ms: int) -> list[To]:
    """Return the present state of channels: whether their person has quiet hours."""
    receivers = []
    for channel in some:
        until_ms = None
        if channel.quiet_hours:
            try:
                until_ms = read_quiet_hours(channel.quiet_hours, channel.quiet_zone or "UTC").ends_ms(now_ms)
            except PacingTrouble as trouble:
                _log.warning("the quiet hours of %s cannot be understood: %s", channel.person, trouble)
        receivers.append(To(channel.id, until_ms, channel.person or ""))
    return receivers


def uids() -> Iterator[str]:
    """Yield ids for messages."""
    while True:
        yield uuid.uuid4().hex


TheRuleBook = Annotated[RuleBook, part("rule_book")]
