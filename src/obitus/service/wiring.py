"""The parts of one service, made in their order and closed in the other. Whatever works is given the parts that it needs."""

from __future__ import annotations

from obitus.service.clock import Clock
from obitus.service.intake.intake import Intake
from obitus.service.jobs.housekeeping import Housekeeping
from obitus.service.jobs.regrouping import Regrouper
from obitus.service.jobs.telling import Telling
from obitus.service.jobs.watching import Watcher
from obitus.service.live import Live
from obitus.service.settings import Settings
from obitus.service.sign_in.acts import Acts
from obitus.service.sign_in.passes import Passes
from obitus.store.records import Records


class Parts:
    """All parts of one service. Only what starts and stops it holds them all."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.clock = Clock(settings.clock_ms)
        self.records = Records(settings.database, settings.url)
        self.live = Live()
        self.acts = Acts(self.records.writer, self.clock)
        self.passes = Passes(self.records, self.clock, settings, self.acts, self.live)
        self.intake = Intake(self.records, self.clock, settings, self.live)
        self.telling = Telling(self.records.reader, self.records.writer, self.live)
        self.regrouper = Regrouper(self.records, self.clock, self.intake.preparer)
        self.watcher = Watcher(self.records, self.clock)
        self.housekeeping = Housekeeping(self.records, self.clock)

    def close(self) -> None:
        """Stop: finish what was queued, and let go of the files."""
        self.regrouper.close()
        self.watcher.close()
        self.telling.close()
        self.live.close()
        self.housekeeping.close()
        self.intake.close()
        self.records.close()
