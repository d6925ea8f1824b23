"""The workers that pass records on: one thread a target, so that one that is away holds up neither the others nor intake."""

from __future__ import annotations

import json
import logging
import random
import ssl
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Annotated, Any, Final

from obitus.core.alerting.pacing import pause_s
from obitus.core.asking import QuestionTrouble, read
from obitus.core.redaction import Redactor
from obitus.core.redaction.rules import RuleTrouble, parse_rules
from obitus.service.alerting.channels.base import SettingsTrouble
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.intake.linear_patterns import compiled
from obitus.service.outward.allowed import AllowedFile, NotAllowed
from obitus.service.outward.asking import Asker
from obitus.service.outward.sealing import Seal, SealBroken
from obitus.service.passing import files, otlp, syslog, webhooks
from obitus.service.passing.base import PassingTrouble, Taken, Taker
from obitus.service.passing.reading import Reading, TargetFilter
from obitus.store import passing as store
from obitus.store.errors import StoreBusy, StoreError, StoreTrouble
from obitus.store.passing import Passed
from obitus.store.records import Records
from obitus.store.rows.passing import PassingKind, Target

_log = logging.getLogger("obitus.service")

LOOKS_EVERY_S: Final = 0.5
KEPT_EVERY_S: Final = 5.0
LONGEST_PAUSE_S: Final = 120.0


def checked(kind: PassingKind, settings: dict[str, Any], secrets: dict[str, Any]) -> dict[str, Any]:
    """Return a target's settings in their stored form; raises SettingsTrouble."""
    if kind == "file":
        return files.checked(settings)
    if kind == "syslog":
        return syslog.checked(settings)
    return otlp.checked(settings, secrets) if kind == "otlp" else webhooks.checked(settings, secrets)


class Passing:
    """Passes records on to all targets. ``refresh`` is called when these change; ``changed`` is called when one is
    up to date, or fails."""

    def __init__(
        self,
        records: Records,
        clock: Clock,
        allowed: AllowedFile,
        seal: Seal,
        home: str,
        tls: ssl.SSLContext | None = None,
        changed: Callable[[], None] | None = None,
    ) -> None:
        self.changed = changed or (lambda: None)
        self._records, self._clock, self._home = records, clock, home
        self.allowed, self.seal = allowed, seal
        self.asker = Asker(allowed, tls)
        self._workers: dict[str, _Worker] = {}
        self._lock = threading.Lock()
        self._is_closed = False

    def start(self) -> None:
        """Pass on from now on."""
        self.refresh()

    def refresh(self) -> None:
        """Let there be a worker for each target, as it is now."""
        with self._lock:
            if self._is_closed:
                return
            targets = {row.name: row for row in store.targets(self._records.reader)}
            for name in [
                name
                for name, worker in self._workers.items()
                if name not in targets or targets[name].id != worker.target.id
            ]:
                self._workers.pop(name).stop()
            for name, row in targets.items():
                if name not in self._workers:
                    worker = _Worker(self, row, self._records, self._clock, self._home)
                    # Before it counts as there: where no thread can be started, the next refresh tries again.
                    worker.start()
                    self._workers[name] = worker

    def wake(self, name: str) -> None:
        """Let a target be tried at once."""
        with self._lock:
            worker = self._workers.get(name)
        if worker is not None:
            worker.woken.set()

    def taker(self, row: Target) -> Taker:
        """Return the sender of a target; raises SettingsTrouble, SealBroken."""
        settings, secrets = json.loads(row.settings), self.seal.open(f"target {row.name}", row.secrets)
        if row.kind == "file":
            return files.FileTaker(settings, self.allowed, lambda: self._clock.now_ms() / 1000)
        if row.kind == "syslog":
            return syslog.SyslogTaker(settings, self.asker)
        if row.kind == "otlp":
            return otlp.OtlpTaker(settings, secrets, self.asker)
        return webhooks.WebhookTaker(settings, secrets, self.asker, self._home)

    def why_not(self, row: Target) -> str:
        """Return why the owner of the machine has to allow a target first, '' where it is allowed."""
        if row.kind != "file":
            return ""
        try:
            self.allowed.file(Path(json.loads(row.settings)["path"]))
        except NotAllowed as trouble:
            return str(trouble)
        return ""

    def close(self) -> None:
        """Stop: a batch in progress is finished, or sent again after the next start."""
        with self._lock:
            self._is_closed = True
            workers = list(self._workers.values())
            self._workers.clear()
        for worker in workers:
            worker.stop()


class _Worker:
    """Passes on to one target."""

    def __init__(self, passing: Passing, target: Target, records: Records, clock: Clock, home: str) -> None:
        self.target = target
        self._passing, self._records, self._clock, self._home = passing, records, clock, home
        self._at = store.passed_to(records.reader, target.id)
        self._events_to = target.events_to
        self._kept: tuple[dict[int, int], int] = (dict(self._at), self._events_to)
        self._kept_ms = 0
        self._given = Given()
        self._dice = random.Random()  # noqa: S311 - spreads tries, and keeps no secret
        self.woken = threading.Event()
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._serve, name=f"obitus-passing-{target.id}", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """End after the present batch."""
        self._stopping.set()
        self.woken.set()
        self._thread.join(5.0)

    def _serve(self) -> None:
        taker: Taker | None = None
        tries, moved = 0, False
        while not self._stopping.is_set():
            try:
                if taker is None:
                    reading = Reading(self._records, wanted_of(self.target, self._clock.now_ms()), self._home)
                    taker = self._passing.taker(self.target)
                went_on = self._turn(reading, taker)
                tries = 0
                moved = moved or went_on
                if not went_on:
                    if moved:
                        self._passing.changed()
                        moved = False
                    self.woken.wait(LOOKS_EVERY_S)
                    self.woken.clear()
            except (PassingTrouble, SettingsTrouble, SealBroken, QuestionTrouble, RuleTrouble) as trouble:
                tries += 1
                self._say(str(trouble))
                self._passing.changed()
                after_s = getattr(trouble, "after_s", None)
                self.woken.wait(min(LONGEST_PAUSE_S, after_s or pause_s(tries, self._dice)))
                self.woken.clear()
            except (StoreTrouble, StoreBusy) as error:
                _log.warning("passing on to %s waits: %s", self.target.name, error)
                self._stopping.wait(1.0)
            except Exception:
                _log.exception("passing on to %s failed; it will be tried again", self.target.name)
                tries += 1
                self._stopping.wait(min(LONGEST_PAUSE_S, pause_s(tries, self._dice)))
        if taker is not None:
            taker.close()
        self._keep()

    def _turn(self, reading: Reading, taker: Taker) -> bool:
        """Offer the next records, and store the target's position; return whether there were any."""
        batch = reading.next(self._at, self._events_to, self._clock.now_ms())
        if batch.is_empty:
            return False
        give(taker, batch.records, self._given)
        counts, self._given = self._given, Given()
        self._at |= batch.places
        self._events_to = max(self._events_to, batch.events_to)
        now_ms = self._clock.now_ms()
        # Unwanted records are skipped without a write for each step.
        if batch.records or batch.lost or now_ms - self._kept_ms > KEPT_EVERY_S * 1000:
            passed = Passed(
                dict(self._at),
                self._events_to,
                len(batch.records) - counts.refused,
                counts.refused,
                batch.lost,
                counts.said[:500],
            )
            self._write(passed, now_ms)
        return True

    def _write(self, passed: Passed, now_ms: int) -> None:
        self._records.writer.run(partial(store.passed, target_id=self.target.id, turn=passed, now_ms=now_ms))
        self._kept, self._kept_ms = (dict(self._at), self._events_to), now_ms

    def _keep(self) -> None:
        if (self._at, self._events_to) == self._kept:
            return
        try:
            self._write(Passed(dict(self._at), self._events_to, 0), self._clock.now_ms())
        except StoreError as error:
            _log.warning("how far %s is could not be kept: %s", self.target.name, error)

    def _say(self, trouble: str) -> None:
        now_ms = self._clock.now_ms()
        try:
            self._records.writer.run(
                partial(store.in_trouble, target_id=self.target.id, trouble=trouble[:500], now_ms=now_ms)
            )
        except StoreError as error:
            _log.warning("passing on to %s: %s (%s)", self.target.name, trouble, error)


@dataclass(slots=True)
class Given:
    """The parts of a batch that a target has acknowledged, in one try or in several."""

    ids: set[Any] = field(default_factory=set)
    refused: int = 0
    said: str = ""

    def missing(self, part: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
        """Return the parts that are not acknowledged yet."""
        return [record for record in part if _id(record) not in self.ids]

    def add(self, part: Sequence[dict[str, Any]], taken: Taken) -> None:
        """Mark a part as acknowledged."""
        self.ids.update(map(_id, part))
        self.refused += taken.refused
        self.said = self.said or taken.said


def _id(record: Mapping[str, Any]) -> tuple[Any, ...]:
    return record.get("kind"), record.get("number"), record.get("id")


def give(taker: Taker, batch: Sequence[dict[str, Any]], given: Given) -> None:
    """Send the unacknowledged parts of a batch; raises PassingTrouble, and ``given`` has the progress."""
    for some in taker.parts(batch):
        missing = given.missing(some)
        if missing:
            _give(taker, missing, given)


def _give(taker: Taker, part: Sequence[dict[str, Any]], given: Given) -> None:
    """Send a part; where a target refuses it for good, in halves, so that only the refused records are left out."""
    try:
        taken = taker.take(part)
    except PassingTrouble as trouble:
        if not trouble.for_good:
            raise
        if len(part) > 1:
            middle = len(part) // 2
            _give(taker, part[:middle], given)
            _give(taker, part[middle:], given)
            return
        taken = Taken(1, str(trouble))
    given.add(part, taken)


def wanted_of(row: Target, now_ms: int) -> TargetFilter:
    """Return the filter of a target; raises QuestionTrouble, RuleTrouble."""
    rules = parse_rules(json.loads(row.hides))
    node = read(row.question, now_ms) if row.question else None
    return TargetFilter(frozenset(json.loads(row.passes)), node, Redactor(rules, compiled) if rules else None)


ThePassing = Annotated[Passing, part("passing")]
