"""Capturing failures: each once, however many places on its way up report it."""

from __future__ import annotations

import os
from collections.abc import Mapping
from types import FrameType
from typing import Any, Final

from obitus.client import runs
from obitus.client.alike import Alike, Form, entry_point_of, form_of, form_of_place
from obitus.client.base import Base
from obitus.client.capture import Capture
from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.client.limits import Limits
from obitus.client.log import is_ours, warn
from obitus.client.native import is_finalizing
from obitus.client.open_runs import OpenRuns, resolve
from obitus.client.seen import Sighting, Sightings
from obitus.core.bounds import kept
from obitus.core.severity import SEVERITIES, rank

SUPERVISOR_FILE: Final = "OBITUS_RUN_FILE"
_SAID: Final = "Reported message"


class Failures:
    """Captures for one process. No method of it ever raises into the app."""

    def __init__(self, base: Base, limits: Limits, open_runs: OpenRuns) -> None:
        self._base, self._limits, self._runs = base, limits, open_runs
        settings = base.settings
        self.capture = Capture(base.redactor, settings.own, values=settings.values, source=settings.source)
        self.redactor = base.redactor
        self.seen = Sightings()
        self.alike = Alike(base)
        self.reported_elsewhere: set[str] = set()
        """Full names of types and loggers whose log records repeat exceptions that are reported anyway."""
        self._recorded_exit = False
        """Whether the exit was reported already, for example by a run."""

    def record(
        self,
        error: BaseException,
        *,
        handled: bool,
        captured_by: str,
        severity: str = "ERROR",
        attributes: Mapping[str, Any] | None = None,
        run: runs.RunState | None = None,
    ) -> str | None:
        """Report an exception once, however many places on its way up call this; return the report's id."""
        try:
            return self._record(error, handled, captured_by, severity, attributes, run)
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: an exception could not be captured ({type(trouble).__name__}: {trouble}).")
            return None

    @guarded
    def record_chain(
        self,
        chain: list[dict[str, Any]],
        captured_by: str,
        attributes: Mapping[str, Any],
        severity: str = "FATAL",
    ) -> str | None:
        """Report an exception that is known as text only, or that ended another program, in the report's form."""
        if self._limits.no_room(self._limits.failures):
            return None
        return self._put_failure(chain, False, captured_by, severity, attributes, runs.current.get())

    @guarded
    def record_text(self, text: str, attributes: Mapping[str, Any], severity: str) -> str | None:
        """Report a traceback that is known as text only, such as a server's log record of what it caught."""
        if is_finalizing():
            return None
        from obitus.core.stacks import find_stacks, report_form

        stacks = find_stacks(text)
        run = runs.current.get()
        if not stacks or (run is not None and run.died):
            return None
        chain = report_form(stacks[-1].chain)
        if self.seen.has_noted(chain[0]["type"], chain[0]["message"]):
            # A log record of an exception that was reported a moment ago.
            return None
        return self.record_chain(chain, "logging", attributes, severity)

    @guarded
    def say(self, message: str, severity: str, attributes: Mapping[str, Any], frame: Any) -> str | None:
        """Report a message: a failure from ERROR on, a log record below it."""
        severity = severity.upper() if isinstance(severity, str) and severity.upper() in SEVERITIES else "ERROR"
        self._runs.breadcrumb("mark", message, severity, attributes)
        if rank(severity) < rank("ERROR"):
            where = {
                "code.file.path": frame.f_code.co_filename,
                "code.line.number": frame.f_lineno,
                "code.function.name": frame.f_code.co_qualname,
            }
            return self._runs.log_record(str(message), severity, "obitus.say", where | dict(attributes))
        run = runs.current.get()
        form = form_of_place(frame, severity, entry_point_of(run))
        if not self._is_whole(form):
            return None
        chain = [{"type": _SAID, "message": kept(str(message)), "frames": self.capture.stack(frame)}]
        return self._put_failure(chain, True, "say", severity, attributes, run, form)

    def record_end(self, error: BaseException) -> None:
        """Report the exception that ends the process, and have it on disk before the process is gone."""
        report_id = self.record(error, handled=False, captured_by="main thread", severity="FATAL")
        # ``obitus run`` around this process need not report its end again.
        place = os.environ.get(SUPERVISOR_FILE)
        if place and report_id is not None:
            try:
                with open(place, "a", encoding="ascii") as opened:  # noqa: PTH123
                    opened.write(f"{report_id}\n")
            except OSError as trouble:
                if is_the_apps(trouble):
                    raise

    def stack(self, frame: FrameType | None) -> list[dict[str, Any]]:
        """Return the frames that lead to ``frame``, in the report's form."""
        return self.capture.stack(frame)

    def chain(self, error: BaseException) -> list[dict[str, Any]]:
        """Return an exception chain in the report's form."""
        return self.capture.chain(error)

    def is_reported_elsewhere(self, error: BaseException, logger: str) -> bool:
        """Whether a logged exception only repeats one that is reported anyway."""
        elsewhere = self.reported_elsewhere
        return bool(elsewhere) and (
            logger in elsewhere or f"{type(error).__module__}.{type(error).__qualname__}" in elsewhere
        )

    def record_lost(self, chain: list[dict[str, Any]], run: runs.RunState) -> None:
        """Report why a child was lost, on the run that it was in."""
        self._put_failure(chain, False, "parent", "ERROR", None, run)

    def knows(self, error: BaseException) -> bool:
        """Whether an exception was reported already since it was raised."""
        return self.seen.find(error, runs.current.get()) is not None

    def record_exit(self, message: str, frames: list[dict[str, Any]]) -> None:
        """Report that the program exited with a status other than 0."""
        if not self._recorded_exit:
            self.record_chain([{"type": "SystemExit", "message": message, "frames": frames}], "main thread", {})

    def _record(
        self,
        error: BaseException,
        handled: bool,
        captured_by: str,
        severity: str,
        attributes: Mapping[str, Any] | None,
        run: runs.RunState | None,
    ) -> str | None:
        if isinstance(error, SystemExit):
            self._recorded_exit = True
        run = run or runs.current.get()
        is_the_end = captured_by == "main thread"
        sighting = self.seen.find(error, run)
        if sighting is not None and is_the_end and sighting.form is not None and sighting.report_id is None:
            # It was only counted before; now it ends the process.
            self.alike.take_back(sighting.form)
            sighting = None
        if sighting is not None:
            if sighting.handled and not handled:
                self._strengthen(sighting, captured_by, severity, run)
            return sighting.report_id
        if is_ours():
            return None
        form = form_of(error, entry_point_of(run))
        is_whole = self._is_whole(form, is_the_end=is_the_end)
        if is_whole is None:
            return None
        sighting = self.seen.add(error, run, handled=handled)
        sighting.form = form
        if is_whole:
            sighting.report_id = self._put_failure(
                self.capture.chain(error), handled, captured_by, severity, attributes, run, form
            )
        elif run is not None and not handled:
            run.died = True
        return sighting.report_id

    def _is_whole(self, form: Form, *, is_the_end: bool = False) -> bool | None:
        """Whether a failure is captured whole; False where it is only counted, None where it is dropped, which is
        counted too. A failure that ends the process is always captured.
        """
        limits = self._limits
        why = limits.refusal(limits.failures)
        if why is None or is_the_end:
            return True
        if self.alike.count(form):
            return False
        if limits.may_be_first():
            return True
        self._base.sender.drop(why)
        return None

    def _strengthen(self, sighting: Sighting, captured_by: str, severity: str, run: runs.RunState | None) -> None:
        """Report a caught failure as unhandled after all, where it was not sent yet."""
        sighting.handled = False
        if sighting.form is not None:
            self.alike.strengthen(sighting.form, captured_by, severity)
        if run is not None:
            run.died = True
        if severity != "FATAL":
            self._base.held.strengthen(sighting.report_id, handled=False, captured_by=captured_by)
        else:
            self._base.held.strengthen(sighting.report_id, handled=False, captured_by=captured_by, severity=severity)

    def _put_failure(
        self,
        chain: list[dict[str, Any]],
        handled: bool,
        captured_by: str,
        severity: str,
        attributes: Mapping[str, Any] | None,
        run: runs.RunState | None,
        form: Form | None = None,
    ) -> str:
        if run is not None:
            resolve(run)
        report = self._base.new_report("failure", severity, run, attributes or {})
        report |= {"handled": handled, "captured_by": captured_by, "exceptions": chain}
        self.seen.note(chain[0]["type"], chain[0]["message"])
        report["trail"] = (self._runs.trail if run is None else run.trail).now()
        if run is not None:
            report["run"] = run.as_report(self._base.timer())
            if run.request is not None:
                report["request"] = dict(run.request)
            if not handled:
                report["id"] = run.take_end_id() or report["id"]
            run.add_failure(report["id"])
        if form is not None:
            self.alike.learn(form, report)
        self._runs.breadcrumb("failure", f"{chain[0]['type']} was reported", "ERROR", {"failure.id": report["id"]})
        report_id = str(report["id"])
        if self._base.ending or is_finalizing() or severity == "FATAL":
            # The process is about to end: nobody waits for a thread any more.
            self._base.sender.keep(report)
            if self._base.ending and not is_finalizing():
                self._base.sender.leave(self._base.exit_s(), family=False)
        elif handled and captured_by != "say":
            if run is not None:
                run.caught = report_id
            self._base.held.hold(report, run, at_once=captured_by == "record")
        elif captured_by == "say":
            self._base.sender.keep(report)
        else:
            if run is not None:
                run.died = True
            self._base.sender.put(report)
        return report_id
