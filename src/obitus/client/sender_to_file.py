"""Reports to a file alone, where no service is set: they go to the file, and to the spool where they cannot be written to the file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from obitus.client import state
from obitus.client.backlog import BATCH_BYTES, BATCH_REPORTS, Backlog
from obitus.client.delivery import LONGEST_WAIT_S
from obitus.client.exception_origin import is_the_apps
from obitus.client.log import is_ours
from obitus.client.sender import Sender
from obitus.client.settings import Settings
from obitus.client.spool import Spool
from obitus.core.redaction import Redactor


class FileBacklog(Backlog):
    """Reports that could not be written to the file yet."""

    def hold(self, lines: list[bytes]) -> None:
        """Write lines to the file, or to the spool for a later start. It needs no lock."""
        if self.write_also(lines):
            return
        spool = self.spool()
        for number, line in enumerate(lines):
            try:
                if spool is None:
                    raise OSError("there is no spool")
                spool.put_down(line)
            except OSError as error:
                if is_the_apps(error):
                    raise
                self._drop("the file cannot be written", len(lines) - number)
                return

    def _adopt(self, spool: Spool, family: str | None = None) -> None:
        """Add reports that ended processes had written to files of their own, but not to the file yet."""
        adopted = 1
        while adopted:
            adopted = spool.adopt(family)
            while (batch := spool.peek(BATCH_REPORTS, BATCH_BYTES)).lines:
                if not self.write_also(batch.lines):
                    return
                spool.done(batch)

    def _release(self, spool: Spool, path: Path) -> None:
        if self.write_also(spool.line_in(path)):
            path.unlink(missing_ok=True)


class FileSender(Sender):
    """Writes reports to a file, in place of sending them."""

    def _backlog_for(self, settings: Settings, redactor: Redactor, family: str) -> Backlog:
        return FileBacklog(settings, redactor, self.sayings, self.drop, family, self._took)

    def _took(self, count: int) -> None:
        """Count reports that were written to the file."""
        self._counted(count, 0)

    def keep(self, report: dict[str, Any]) -> bool:
        """Write a report to the file, or to the spool for a later start."""
        was_ours, state.ours.working = is_ours(), True
        try:
            line = self.backlog.line(report)
            if line is None:
                return False
            self.backlog.hold([line])
            return True
        finally:
            state.ours.working = was_ours

    def _take_on(self) -> None:
        self.backlog.adopt()

    def _wants_poster(self) -> bool:
        return bool(self._tickets)

    def _post(
        self, lines: list[bytes], failures: int, connect_s: float, whole_s: float, *, at_the_end: bool = False
    ) -> tuple[int, float]:
        return (len(lines), 0) if self.backlog.write_also(lines) else (0, LONGEST_WAIT_S)

    def _send_last(self, ends: float) -> None:
        """What was recorded is in the file already."""
