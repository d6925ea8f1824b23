"""The registry of runs: opening and finishing them, their breadcrumbs, and counting all of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from obitus.client import runs
from obitus.client.base import Base
from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.client.limits import Limits
from obitus.client.log import warn
from obitus.client.tally import Tally
from obitus.client.trail import TRIM_AT, Trail
from obitus.client.values import plain
from obitus.core.bounds import long, medium, short

_current_run = runs.current.get


class OpenRuns:
    """The open runs of one process. No method of it ever raises into the app."""

    tally: Tally
    open: dict[int, runs.RunState]
    """Those that will end, by id."""

    def __init__(self, base: Base, limits: Limits, *, wakes: bool) -> None:
        self._base, self._limits, self._wakes = base, limits, wakes
        self.trail = Trail()
        """Breadcrumbs outside of any run."""

    def begin(self) -> None:
        """Begin, with nothing counted."""
        self.tally = Tally(self._base.new_id)
        self.open = {}

    def new(
        self, entry_point: str, *, trace_id: str | None = None, parent_span_id: str | None = None, lasting: bool = False
    ) -> runs.RunState:
        """Return a new run; it joins the trace of the run around it, or the one given. ``finish`` ends it.

        A ``lasting`` one lasts as long as the process or a connection: it is no failure that it never ends.
        """
        base = self._base
        run = runs.RunState(
            entry_point if type(entry_point) is str else str(entry_point),
            base.clock_ms(),
            base.timer(),
            base.random_bytes,
            trace_id,
            parent_span_id,
            runs.current.get() if trace_id is None else None,
        )
        if not lasting:
            self.open[id(run)] = run
        if self._wakes and not base.sender.is_awake:
            base.sender.wake()
        return run

    def finish(self, run: runs.RunState, outcome: str, status: int | None = None) -> None:
        """End a run: it is counted, and sent whole where it failed, was refused, was slow, or is kept for comparison."""
        try:
            self.open.pop(id(run), None)
            run.outcome = outcome
            ended_s = self._base.timer()
            took_ms = (ended_s - run.started_s) * 1000
            reason = self.tally.add(run.know_entry_point(), outcome, status, took_ms, run.started_ms + int(took_ms))
            if reason is not None:
                self._send(run, reason, ended_s)
            if run.caught is not None:
                failures = self._base.held
                if outcome == "failed" and not run.died:
                    # A library logged the exception and answered for it: the app did not handle it.
                    failures.strengthen(run.caught, handled=False)
                failures.release(run)
            # They lead back to the run: without this only the garbage collector would free either.
            run.entry_point_now = run.resolve = run.user = None
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: a run could not be reported ({type(trouble).__name__}: {trouble}).")

    def _send(self, run: runs.RunState, reason: str, ended_s: float) -> None:
        if self._limits.no_room(self._limits.runs):
            return
        run.kept = reason
        resolve(run)
        report = self._base.new_report("run", "INFO", run, {})
        del report["severity"]
        report["run"] = run.as_report(ended_s)
        if run.failure_ids:
            report["run"]["failures"] = run.failure_ids[:20]
        if run.request is not None:
            report["request"] = dict(run.request)
        report["trail"] = run.trail.now()
        self._base.sender.put(report)

    def send_tallies(self) -> None:
        """Queue what was counted since the last time."""
        for tally in self.tally.take():
            self._base.sender.put(self._base.released(tally))

    def breadcrumb(
        self, kind: str, message: str, severity: str = "INFO", data: Mapping[str, Any] | None = None
    ) -> None:
        """Add a step to the trail of the current run, or of the process when there is none."""
        try:
            base = self._base
            if kind in base.settings.leave_out:
                return
            run = runs.current.get()
            trail = self.trail if run is None else run.trail
            held = {short(str(name)): plain(value, base.redactor) for name, value in data.items()} if data else None
            text = message if type(message) is str else str(message)
            trail.append((kind, base.now_ns(), severity, medium(text), held))
            if len(trail) > TRIM_AT:
                trail.trim()
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: a breadcrumb could not be kept ({type(trouble).__name__}).")

    def step(self, kind: str, severity: str, written: tuple[Any, ...]) -> None:
        """Add a step that is formatted only when it is needed (see ``trail``): this has to be fast."""
        run = _current_run()
        trail = self.trail if run is None else run.trail
        trail.append((kind, self._base.now_ns(), severity, written, None))
        if len(trail) > TRIM_AT:
            trail.trim()

    def attach(self, attributes: Mapping[str, Any]) -> None:
        """Put attributes on the current run, or on the process when there is none."""
        try:
            run = runs.current.get()
            on_process = self._base.attributes
            for name, value in attributes.items():
                shown = plain(value, self._base.redactor)
                if run is not None:
                    run.attach(str(name), shown)
                elif len(on_process) < runs.MOST_ATTRIBUTES or name in on_process:
                    on_process[short(str(name))] = shown
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: attributes could not be attached ({type(trouble).__name__}).")

    def log_record(
        self, message: str, severity: str, logger: str, attributes: Mapping[str, Any], template: str = ""
    ) -> str | None:
        """Send a structured log record of the current run; return the report's id, None where it was beyond the limit."""
        if self._limits.no_room(self._limits.logs):
            return None
        run = runs.current.get()
        report = self._base.new_report("log", severity, run, attributes)
        report["logger"], report["message"] = short(logger), long(message)
        if template and template != message:
            report["template"] = long(template)
        if run is not None:
            report["run"] = {"id": run.id, "entry_point": short(run.know_entry_point()) or "unnamed"}
        return str(report["id"]) if self._base.sender.put(report) else None


@guarded
def resolve(run: runs.RunState) -> None:
    """Fill in what is known of a run only later."""
    run.know_more()
    if run.user is not None and "user.id" not in (run.attributes or {}):
        user = run.user()
        if user is not None:
            run.attach("user.id", short(str(user)))
