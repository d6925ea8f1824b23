"""The parts of intake: records, clock and limits, the gate, the keys, the team's rules, and the worker processes."""

from __future__ import annotations

import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import replace
from functools import partial
from typing import Annotated

from obitus.core.telemetry import Steps
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.intake.allowance import OF_ADDRESS, OF_KEY, Allowance
from obitus.service.intake.bodies import Gate, Pass
from obitus.service.intake.day_use import DayUse
from obitus.service.intake.known_forms import Flooding
from obitus.service.intake.linear_patterns import redactor_of
from obitus.service.intake.prepare import Preparer, grouping_of
from obitus.service.intake.processes import Processes
from obitus.service.intake.worker_tasks import Maps, Rules
from obitus.service.live import Live
from obitus.service.lookup_cache import Known
from obitus.service.maps.shelf import Shelf
from obitus.service.notes import Notes
from obitus.service.problems import Problem
from obitus.service.settings import MIB, Settings
from obitus.service.tracepoints import ActiveTracepoints
from obitus.store import apps, log_orders, rules
from obitus.store.records import Records
from obitus.store.rows.apps import KnownKey, LogOrder


class Intake:
    """The intake of reports."""

    def __init__(
        self, records: Records, clock: Clock, settings: Settings, live: Live, tracepoints: ActiveTracepoints
    ) -> None:
        self.records, self.clock, self.live = records, clock, live
        self.tracepoints = tracepoints
        self.limits = settings.limits
        # A parsed span or record takes many times its bytes: these bodies have lower bounds.
        self.limits_of_telemetry = replace(
            self.limits,
            inflated_bytes=min(self.limits.inflated_bytes, 16 * MIB),
            inflates_times=min(self.limits.inflates_times, 60),
            inflates_always_bytes=min(self.limits.inflates_always_bytes, MIB),
        )
        self.gate = Gate(self.limits)
        self.day_use = DayUse(records.reader, clock, self.limits)
        self.keys = Known(partial(apps.key_with, records.reader))
        records.writer.call_after(apps.CHANGES_A_KEY, "a_key_changed", self.keys.forget)
        self.pages_of_key, self.pages_of_address = Allowance(*OF_KEY), Allowance(*OF_ADDRESS)
        self.preparer = Preparer(records.evidence)
        self.flooding = Flooding(lambda issue_id, now_ms: records.writer.days.floods.whole_left(issue_id, now_ms))
        self.shelf = Shelf(settings.data, records.reader)
        records.evidence.turn_back = self.shelf.turn_back_json
        self.processes = Processes(settings.processes, nice=settings.nice)
        self.steps = Steps()
        self.refusals = Notes()
        self.remarks = Notes()
        self.clients = Notes()
        """The client that sent the latest reports of each app."""
        self._loading = threading.Lock()
        """Held while rules or orders are read and put in place: of two changes the later one must have the last word."""
        self._numbering = threading.Lock()
        """Held for a moment while ``_rules`` is replaced, also on the event loop."""
        self._rules = Rules(0, (), (), None)
        self.log_orders: dict[int, list[LogOrder]] = {}
        """Orders for the loggers of apps, by the app's number."""
        self.load_rules()
        self.load_log_orders()

    def close(self) -> None:
        """End the threads and the worker processes."""
        self.gate.threads.close()
        self.processes.close()

    @asynccontextmanager
    async def let_in(self, key: KnownKey) -> AsyncIterator[Pass]:
        """Admit one more body of a sender; raises a problem where too much comes at once, or the day's bound is reached."""
        try:
            self.day_use.check(key)
        except Problem as problem:
            self.refuse(key.app, problem.slug, problem.detail)
            raise
        async with self.gate.entered(key.id) as held:
            yield held

    def load_log_orders(self) -> None:
        """Send orders for loggers to clients from now on."""
        orders: dict[int, list[LogOrder]] = {}
        with self._loading:
            for order in log_orders.active(self.records.reader, self.clock.now_ms()):
                orders.setdefault(order.app_id, []).append(order)
            self.log_orders = orders

    def load_rules(self) -> None:
        """Apply the team's redaction and grouping rules to new reports from now on."""
        reader, evidence = self.records.reader, self.records.evidence
        with self._loading:
            texts = [row.rule for row in rules.REDACTION.active(reader)]
            grouping = [(row.rule, row.id) for row in rules.GROUPING.active(reader)]
            self.preparer.use(redactor_of(texts), grouping_of(grouping), self.shelf.turn_back)
            with self._numbering:
                number = self._rules.number + 1
                self._rules = Rules(number, tuple(texts), tuple(grouping), evidence.dictionary, self._maps())

    @property
    def rules(self) -> Rules:
        """The rules for worker processes."""
        dictionary, maps = self.records.evidence.dictionary, self._maps()
        with self._numbering:
            rules = self._rules
            if (rules.dictionary or (0,))[0] != (dictionary or (0,))[0] or rules.maps != maps:
                rules = self._rules = replace(rules, number=rules.number + 1, dictionary=dictionary, maps=maps)
            return rules

    def _maps(self) -> Maps | None:
        return None if self.shelf.is_empty else Maps(self.records.reader.path, self.shelf.changes)

    def remark(self, app: str, slug: str, reason: str) -> None:
        """Note a problem of an app's reports that are stored nevertheless."""
        if self.remarks.note(app, slug, reason, self.clock.now_ms()):
            self.live.publish_from_thread({"type": "refused", "app": app, "slug": slug})

    def refuse(self, app: str, slug: str, reason: str) -> None:
        """Note that an app's report was refused, and notify the set-up page, which may be waiting for it."""
        self.refusals.note(app, slug, reason, self.clock.now_ms())
        self.live.publish_from_thread({"type": "refused", "app": app, "slug": slug})


TheIntake = Annotated[Intake, part("intake")]
