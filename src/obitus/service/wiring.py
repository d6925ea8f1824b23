"""The parts of one service, made in order and closed in the reverse order. Other modules get the parts that they need."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from obitus.core.floods import Floods
from obitus.service.alerting.active_rules import RuleBook
from obitus.service.alerting.delivering import Channels, Delivering
from obitus.service.alerting.event_rules import Happenings
from obitus.service.alerting.periodic_alerts import PeriodicAlerts
from obitus.service.alerting.window_rules import Windows
from obitus.service.clock import Clock
from obitus.service.intake.intake import Intake
from obitus.service.jobs.collecting import Collecting
from obitus.service.jobs.following_records import Tailing
from obitus.service.jobs.handing import Handing
from obitus.service.jobs.housekeeping import Housekeeping
from obitus.service.jobs.keeping import Keeping
from obitus.service.jobs.live_events import Telling
from obitus.service.jobs.planning import Planner
from obitus.service.jobs.regrouping import Regrouping
from obitus.service.jobs.regrouping_orders import RegroupingOrders
from obitus.service.jobs.runner import Runner
from obitus.service.jobs.watching import Watching
from obitus.service.live import Live
from obitus.service.outward.allowed import AllowedFile
from obitus.service.outward.sealing import Seal
from obitus.service.passing.passing import Passing
from obitus.service.presence import Presence
from obitus.service.refusal_delays import Patience
from obitus.service.settings import Settings
from obitus.service.sign_in.acts import Acts
from obitus.service.sign_in.openid import OpenIdSignIn
from obitus.service.sign_in.passes import Passes
from obitus.service.tracepoints import ActiveTracepoints
from obitus.store.records import OpenRecords


class Parts:
    """All parts of one service. Only what starts and stops it holds them all."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.clock = Clock(settings.clock_ms)
        self.records = OpenRecords(settings.database, settings.url)
        limits = settings.limits
        self.patience = Patience(limits)
        self.records.writer.days.floods = Floods(limits.whole_failures_at_once, limits.whole_failures_a_second)
        self.live = Live()
        self.presence = Presence(self.live)
        self.tracepoints = ActiveTracepoints(self.records, self.clock, self.live)
        self.live.others.append(self.tracepoints)
        self.acts = Acts(self.records.writer, self.clock)
        self.passes = Passes(self.records, self.clock, settings, self.acts, self.live)
        back = f"{settings.url}/api/sign-in/openid/back"
        self.openid = OpenIdSignIn(settings.openid, back) if settings.openid is not None else None
        self.intake = Intake(self.records, self.clock, settings, self.live, self.tracepoints)
        preparer, self.shelf = self.intake.preparer, self.intake.shelf
        self.planner = Planner(self.records, preparer)
        self.regrouping_orders = RegroupingOrders(self.records, self.clock)
        self.runner = Runner(self.records)
        self.tailing = Tailing(self.records)
        self.collecting = Collecting(self.records, self.clock, preparer)
        self.live.others.append(self.tailing)
        self.rule_book = RuleBook(self.records, self.clock)
        allowed, seal = AllowedFile(settings.data), Seal(settings.data)
        self.channels = Channels(allowed, seal, self.live, settings.tls)
        self.delivering = Delivering(
            self.records, self.clock, self.channels, settings.url, self._announces("deliveries")
        )
        self.alert_windows = Windows(self.records, self.clock, self.rule_book)
        self.passing = Passing(
            self.records,
            self.clock,
            allowed,
            seal,
            settings.url,
            settings.tls,
            self._announces("passing"),
        )
        self.periodic_alerts = PeriodicAlerts(self.records, self.clock, self.rule_book, settings.url)
        self.runner.start(
            [
                self.tailing,
                Telling(self.live),
                Watching(self.records, self.clock),
                self.collecting,
                Handing(self.records, self.clock),
                Happenings(self.records, self.clock, self.rule_book),
                Regrouping(
                    self.records, self.clock, preparer, self.planner, self.regrouping_orders, self.runner.stopping
                ),
            ]
        )
        self.housekeeping = Housekeeping(self.records, self.clock, self.collecting, self.shelf)
        self.keeping = Keeping(self.records, self.clock, settings.data)
        for worker in (self.delivering.turns, self.alert_windows.turns, self.periodic_alerts.turns, self.passing):
            worker.start()

    def _announces(self, kind: str) -> Callable[[], None]:
        """Return a function that notifies the consoles that something of a kind has changed."""
        return partial(self.live.publish_from_thread, {"type": kind}, narrowed=False)

    def close(self) -> None:
        """Stop: finish queued work, and close the files."""
        self.passing.close()
        self.periodic_alerts.turns.close()
        self.alert_windows.turns.close()
        self.delivering.close()
        self.channels.close()
        self.runner.close()
        self.live.close()
        self.housekeeping.close()
        self.keeping.close()
        self.intake.close()
        self.passes.threads.close()
        self.tracepoints.threads.close()
        if self.openid is not None:
            self.openid.close()
        self.records.close()
