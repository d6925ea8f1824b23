"""The reporter: one running client. ``obitus.watch`` starts one for the process."""

from __future__ import annotations

import os
import socket
import sys
import threading
import time
from collections.abc import Callable, Mapping
from types import FrameType
from typing import Any, Final

from obitus.client import runs
from obitus.client.capture import Capture
from obitus.client.forks import watch_forks
from obitus.client.guard import guarded, is_the_apps
from obitus.client.held import LONGEST_OUTSIDE_S, Held
from obitus.client.hooks import Hooks
from obitus.client.left_behind import LeftBehind
from obitus.client.log import is_ours, warn
from obitus.client.lost import LostChildren
from obitus.client.native import is_finalizing
from obitus.client.rate import Rate
from obitus.client.seen import Seen, Sighting
from obitus.client.sender import Sender
from obitus.client.settings import Settings
from obitus.client.tally import Tally
from obitus.client.trail import TRIM_AT, Trail
from obitus.client.values import plain
from obitus.core.clock import to_text
from obitus.core.ids import uuid7
from obitus.core.redaction import Redactor
from obitus.core.severity import SEVERITIES, rank
from obitus.core.trace_context import read_traceparent

_SAID: Final = "Reported message"
SUPERVISOR_FILE: Final = "OBITUS_RUN_FILE"
BURST_S: Final = 8.0
RUNS_PER_S: Final = 50.0
LOGS_PER_S: Final = 200.0
TALLY_EVERY_TICKS: Final = 20
STORY_EVERY_S: Final = 0.1
DROPPED_EVERY_TICKS: Final = 120


def clock_ms() -> int:
    """Return the Unix time in milliseconds."""
    return time.time_ns() // 1_000_000


_system_clock: Final = clock_ms
_current_run: Final = runs.current.get


class Reporter:
    """Captures, keeps the trail, and hands reports to its sender. No method of it ever raises into the app."""

    def __init__(
        self,
        settings: Settings,
        *,
        clock_ms: Callable[[], int] = clock_ms,
        random_bytes: Callable[[int], bytes] = os.urandom,
        timer: Callable[[], float] = time.perf_counter,
        process: Mapping[str, Any] | None = None,
        says_time: bool = True,
        hooks: bool = True,
        keeps: bool = True,
        family: str = "",
    ) -> None:
        if settings.url is None or settings.key is None:
            raise ValueError("a reporter needs an address and a key")
        self.settings = settings
        self.clock_ms = clock_ms
        self.now_ns: Callable[[], int] = time.time_ns if clock_ms is _system_clock else lambda: clock_ms() * 1_000_000
        self.random_bytes = random_bytes
        self.timer = timer
        self._says_time = says_time
        self._keeps = keeps
        self.redactor = Redactor(settings.hide)
        self._capture = Capture(self.redactor, settings.own, values=settings.values, source=settings.source)
        self.trail = Trail()
        self._attributes: dict[str, Any] = {}
        self._process = self._describe_process(process or {})
        self._trace = read_traceparent(os.environ.get("TRACEPARENT", "")) if hooks else None
        self._stories = hooks and settings.spool is not None
        self.family = family or os.urandom(4).hex()
        # The process that began to watch, where this one is a child of it.
        self._parent = os.getppid() if family else 0
        self.ending = False
        self._exit_until_s = 0.0
        self.recorded_exit = False
        """Whether leaving with a status was reported by what it came out of, such as a run."""
        self.seen = Seen()
        self.has_children = False
        self.told_elsewhere: set[str] = set()
        """Exceptions that repeat in a log what is reported by itself, by the full names of their types or loggers."""
        self._begin()
        self._hooks = Hooks(self) if hooks else None
        if self._hooks is not None:
            self._hooks.install()
        watch_forks(self)
        if self._stories:
            self._left_behind.begin()
            self.sender.begin()

    def _begin(self) -> None:
        """Make what belongs to one process alone."""
        self.sender = Sender(
            self.settings,
            self.redactor,
            says_time=self._says_time,
            tick=self._tick if self._keeps else lambda: None,
            due=self._release_due if self._keeps else lambda: LONGEST_OUTSIDE_S,
            settle=self._settle,
            wrote=self._keep_story if self._keeps else lambda: None,
            family=self.family,
        )
        self.held = Held(self.sender, self.timer)
        burst = self.settings.failures_per_second * BURST_S
        self._failure_rate = Rate(self.settings.failures_per_second, burst, self.timer)
        self._run_rate = Rate(RUNS_PER_S, RUNS_PER_S * BURST_S, self.timer)
        self._log_rate = Rate(LOGS_PER_S, LOGS_PER_S * BURST_S, self.timer)
        self.tally = Tally(self._new_id)
        self.open_runs: dict[int, runs.RunState] = {}
        self._ticks = 0
        self._story_s = 0.0
        self._dropped_told: dict[str, int] = {}
        self._left_behind = LeftBehind(self)
        self.lost_children = LostChildren(self)

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
        """Report an exception once, however often it is met on its way up; return the report's id."""
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
        """Report an exception that is known as text only, or that another program died of, in the report's form."""
        if self._no_room(self._failure_rate):
            return None
        return self._put_failure(chain, False, captured_by, severity, attributes, runs.current.get())

    @guarded
    def record_text(self, text: str, attributes: Mapping[str, Any], severity: str) -> str | None:
        """Report a traceback that is known as text only, such as a server's log record of what it caught."""
        if is_finalizing():
            return None
        from obitus.core.stacks import find_stacks, report_form

        found = find_stacks(text)
        run = runs.current.get()
        if not found or (run is not None and run.died):
            return None
        chain = report_form(found[-1].chain)
        if self.seen.has_told(chain[0]["type"], chain[0]["message"]):
            # Somebody writes down what was reported a moment ago.
            return None
        return self.record_chain(chain, "logging", attributes, severity)

    @guarded
    def say(self, message: str, severity: str, attributes: Mapping[str, Any], frame: Any) -> str | None:
        """Report a message: a failure from ERROR on, a log record below it."""
        severity = severity.upper() if isinstance(severity, str) and severity.upper() in SEVERITIES else "ERROR"
        self.breadcrumb("mark", message, severity, attributes)
        if rank(severity) < rank("ERROR"):
            where = {
                "code.file.path": frame.f_code.co_filename,
                "code.line.number": frame.f_lineno,
                "code.function.name": frame.f_code.co_qualname,
            }
            return self.log_record(str(message), severity, "obitus.say", where | dict(attributes))
        if self._no_room(self._failure_rate):
            return None
        chain = [{"type": _SAID, "message": str(message)[:8000], "frames": self._capture.stack(frame)}]
        return self._put_failure(chain, True, "say", severity, attributes, runs.current.get())

    def breadcrumb(
        self, kind: str, message: str, severity: str = "INFO", data: Mapping[str, Any] | None = None
    ) -> None:
        """Add a step to the trail of the current run, or of the process when there is none."""
        try:
            if kind in self.settings.without:
                return
            run = runs.current.get()
            trail = self.trail if run is None else run.trail
            held = {str(name)[:300]: plain(value, self.redactor) for name, value in data.items()} if data else None
            text = message if type(message) is str else str(message)
            trail.append((kind, self.now_ns(), severity, text[:2000], held))
            if len(trail) > TRIM_AT:
                trail.trim()
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: a breadcrumb could not be kept ({type(trouble).__name__}).")

    def step(self, kind: str, severity: str, written: tuple[Any, ...]) -> None:
        """Add a step that is written out only when somebody wants to see it (see ``trail``): this has to be fast."""
        run = _current_run()
        trail = self.trail if run is None else run.trail
        trail.append((kind, self.now_ns(), severity, written, None))
        if len(trail) > TRIM_AT:
            trail.trim()

    def attach(self, attributes: Mapping[str, Any]) -> None:
        """Put attributes on the current run, or on the process when there is none."""
        try:
            run = runs.current.get()
            for name, value in attributes.items():
                shown = plain(value, self.redactor)
                if run is not None:
                    run.attach(str(name), shown)
                elif len(self._attributes) < runs.MOST_ATTRIBUTES or name in self._attributes:
                    self._attributes[str(name)[:300]] = shown
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: attributes could not be attached ({type(trouble).__name__}).")

    def log_record(
        self, message: str, severity: str, logger: str, attributes: Mapping[str, Any], template: str = ""
    ) -> str | None:
        """Send a structured log record; return the report's id, None where it was too much."""
        if self._no_room(self._log_rate):
            return None
        run = runs.current.get()
        report = self.new_report("log", severity, run, attributes)
        report["logger"], report["message"] = logger[:300], message[:20_000]
        if template and template != message:
            report["template"] = template[:20_000]
        if run is not None:
            report["run"] = {"id": run.id, "entry_point": run.entry_point[:300] or "unnamed"}
        return str(report["id"]) if self.sender.put(report) else None

    def new_run(
        self, entry_point: str, *, trace_id: str | None = None, parent_span_id: str | None = None, lasting: bool = False
    ) -> runs.RunState:
        """Return a new run; it joins the trace of the run around it, or the one given. ``finish`` ends it.

        A ``lasting`` one goes on as long as the process or a connection does: that it never ended tells nothing.
        """
        run = runs.RunState(
            entry_point if type(entry_point) is str else str(entry_point),
            self.clock_ms(),
            self.timer(),
            self.random_bytes,
            trace_id,
            parent_span_id,
            runs.current.get() if trace_id is None else None,
        )
        if not lasting:
            self.open_runs[id(run)] = run
        if not self.sender.is_awake and self._keeps:
            self.sender.wake()
        return run

    def finish(self, run: runs.RunState, outcome: str, status: int | None = None) -> None:
        """End a run: it is counted, and sent whole where it failed, was refused, was slow, or is one to compare with."""
        try:
            self.open_runs.pop(id(run), None)
            run.outcome = outcome
            ended_s = self.timer()
            took_ms = (ended_s - run.started_s) * 1000
            reason = self.tally.add(run.entry_point, outcome, status, took_ms, run.started_ms + int(took_ms))
            if reason is not None:
                self._send_run(run, reason, ended_s)
            if run.caught is not None:
                if outcome == "failed" and not run.died:
                    # Something logged the exception and answered with it by itself: nobody handled it.
                    self.held.strengthen(run.caught, handled=False)
                self.held.release(run)
            # It leads back to the run: without this only the garbage collector would free either.
            run.resolve = run.user = None
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            warn(f"Obitus: a run could not be reported ({type(trouble).__name__}: {trouble}).")

    def send_tallies(self) -> None:
        """Queue what was counted since the last time."""
        for tally in self.tally.take():
            self.sender.put(self.released(tally))

    def released(self, report: dict[str, Any]) -> dict[str, Any]:
        """Put the release on a report, where one is set, and return it."""
        if self.settings.release:
            report["release"] = self.settings.release[:300]
        return report

    def _new_id(self) -> str:
        return str(uuid7(self.clock_ms(), self.random_bytes(10)))

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything was sent; return whether it was."""
        return self.sender.flush(timeout_s)

    def stop(self, timeout_s: float) -> None:
        """Take the hooks away, send what is queued, and end."""
        if self._hooks is not None:
            self._hooks.remove()
        self.held.release()
        self._tell_dropped()
        self.sender.flush(timeout_s)
        self.sender.secure(0.5)
        self.sender.close()
        self._left_behind.end()

    def last_words(self) -> None:
        """The interpreter ends: hand over what this process made. What other exit handlers raise is still caught.

        A child whose parent watches leaves it on disk for that one, and does not wait.
        """
        if self._left_behind.left:
            return
        self.ending = True
        if self._hooks is not None:
            self._hooks.see_the_end()
        is_child = bool(self._parent) and os.getppid() == self._parent
        self._exit_until_s = time.monotonic() + (0.0 if is_child else self.settings.exit_s)
        self.sender.leave(self._exit_s(), family=self.has_children)
        self.sender.tidy()
        self._left_behind.end()

    def _exit_s(self) -> float:
        return max(0.0, self._exit_until_s - time.monotonic())

    @guarded
    def before_hard_exit(self) -> None:
        """The process ends without exit handlers, by ``os._exit`` or as another program: leave nothing undone."""
        if self._left_behind.left:
            return
        self._settle()
        if self.sender.waiting:
            self.sender.secure(0.2)
        self._left_behind.end()

    @property
    def is_child(self) -> bool:
        """Whether this is a child of a process that watches."""
        return bool(self._parent)

    @guarded
    def give_up_crashes(self) -> None:
        """The app looks after crashes of the interpreter itself."""
        self._left_behind.give_up_crashes()

    @guarded
    def begin_again(self) -> None:
        """The process did not become another program after all."""
        if self._stories:
            self._left_behind.begin()

    def before_fork(self) -> None:
        """Come to rest."""
        self.sender.pause()

    def after_fork(self, *, rests: bool) -> None:
        """In the parent: go on, unless it is to rest until there is something to do."""
        self.has_children = True
        if not rests:
            self.sender.resume()

    def secure(self) -> None:
        """Have everything that was captured on disk when this returns."""
        self.held.release()
        self.sender.secure(0.5)

    @guarded
    def leave_to_parent(self) -> None:
        """The parent ends this process and knows why: what goes on here is left for it to tell.

        From here on this process does nothing more by itself: parents that end their children by a signal give them a
        tenth of a second, and kill them then, whatever lock of theirs they hold at that moment.
        """
        if self.is_child:
            self._left_behind.leave()
            self.sender.hush()

    @guarded
    def started_a_child(self) -> None:
        """A child process was started, which hands on what it has to tell by the spool."""
        self.has_children = True
        self.sender.wake()

    def record_end(self, error: BaseException) -> None:
        """Report what the process ends of, and have it on disk before the process is gone."""
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
        return self._capture.stack(frame)

    def chain(self, error: BaseException) -> list[dict[str, Any]]:
        """Return an exception chain in the report's form."""
        return self._capture.chain(error)

    def is_told_elsewhere(self, error: BaseException, logger: str) -> bool:
        """Whether a logged exception only repeats what is reported by itself."""
        told = self.told_elsewhere
        return bool(told) and (logger in told or f"{type(error).__module__}.{type(error).__qualname__}" in told)

    def record_lost(self, chain: list[dict[str, Any]], run: runs.RunState) -> None:
        """Report what a child was lost of, on the run that it was in."""
        self._put_failure(chain, False, "parent", "ERROR", None, run)

    def knows(self, error: BaseException) -> bool:
        """Whether an exception was reported already, on the way that it is on."""
        return self.seen.find(error, runs.current.get()) is not None

    def record_exit(self, message: str, frames: list[dict[str, Any]]) -> None:
        """Report that the program left with a status other than 0."""
        if not self.recorded_exit:
            self.record_chain([{"type": "SystemExit", "message": message, "frames": frames}], "main thread", {})

    def status(self) -> dict[str, Any]:
        """Return how reporting goes."""
        spooled, spooled_bytes = self.sender.spooled
        return {
            "reporting": True,
            "url": self.settings.url,
            "release": self.settings.release,
            "waiting": self.sender.waiting,
            "spool": str(self.settings.spool) if self.settings.spool is not None else None,
            "spooled": spooled,
            "spooled_bytes": spooled_bytes,
            "sent": self.sender.sent,
            "refused": self.sender.refused,
            "dropped": dict(self.sender.dropped),
            "last_sent": to_text(int(self.sender.sent_last_s * 1000)) if self.sender.sent_last_s else None,
            "trouble": self.sender.sayings.latest,
        }

    def _no_room(self, rate: Rate) -> bool:
        """Whether nothing more can be taken at this moment; what is not taken is counted."""
        if self.sender.full:
            self.sender.drop("the queue is full")
            return True
        if not rate.allows():
            self.sender.drop("too many at once")
            return True
        return False

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
            self.recorded_exit = True
        run = run or runs.current.get()
        sighting = self.seen.find(error, run)
        if sighting is not None:
            if sighting.handled and not handled:
                self._strengthen(sighting, captured_by, severity, run)
            return sighting.report_id
        if is_ours() or self._no_room(self._failure_rate):
            return None
        sighting = self.seen.add(error, run, handled=handled)
        sighting.report_id = self._put_failure(
            self._capture.chain(error), handled, captured_by, severity, attributes, run
        )
        return sighting.report_id

    def _strengthen(self, sighting: Sighting, captured_by: str, severity: str, run: runs.RunState | None) -> None:
        """What was caught was not handled after all: it is reported as that, where it did not go out yet."""
        sighting.handled = False
        if run is not None:
            run.died = True
        if severity != "FATAL":
            self.held.strengthen(sighting.report_id, handled=False, captured_by=captured_by)
        else:
            self.held.strengthen(sighting.report_id, handled=False, captured_by=captured_by, severity=severity)

    def _put_failure(
        self,
        chain: list[dict[str, Any]],
        handled: bool,
        captured_by: str,
        severity: str,
        attributes: Mapping[str, Any] | None,
        run: runs.RunState | None,
    ) -> str:
        if run is not None:
            _resolve(run)
        report = self.new_report("failure", severity, run, attributes or {})
        report |= {"handled": handled, "captured_by": captured_by, "exceptions": chain}
        self.seen.tell(chain[0]["type"], chain[0]["message"])
        report["trail"] = (self.trail if run is None else run.trail).now()
        if run is not None:
            report["run"] = run.as_report(self.timer())
            if run.request is not None:
                report["request"] = dict(run.request)
            if run.failure_ids is None:
                run.failure_ids = []
            run.failure_ids.append(report["id"])
        self.breadcrumb("failure", f"{chain[0]['type']} was reported", "ERROR", {"failure.id": report["id"]})
        report_id = str(report["id"])
        if self.ending or is_finalizing() or severity == "FATAL":
            # The process is about to end: nobody waits for a thread any more.
            self.sender.keep(report)
            if self.ending and not is_finalizing():
                self.sender.leave(self._exit_s(), family=False)
        elif handled and captured_by != "say":
            if run is not None:
                run.caught = report_id
            self.held.hold(report, run, at_once=captured_by == "record")
        elif captured_by == "say":
            self.sender.keep(report)
        else:
            if run is not None:
                run.died = True
            self.sender.put(report)
        return report_id

    def new_report(
        self, kind: str, severity: str, run: runs.RunState | None, attributes: Mapping[str, Any]
    ) -> dict[str, Any]:
        """Return what every report has."""
        now_ms = self.clock_ms()
        report: dict[str, Any] = {
            "kind": kind,
            "id": str(uuid7(now_ms, self.random_bytes(10))),
            "time": to_text(now_ms),
            "severity": severity if severity in SEVERITIES else "ERROR",
            "attributes": self._process | {"thread.name": threading.current_thread().name} | self._attributes,
        }
        self.released(report)
        if run is not None:
            if run.attributes:
                report["attributes"] |= run.attributes
            report["trace_id"], report["span_id"] = run.trace_id, run.span_id
        elif self._trace is not None:
            # Whoever started this process, such as ``obitus run``, has said which trace it belongs to.
            report["trace_id"] = self._trace[0]
        if attributes:
            report["attributes"] |= {str(name)[:300]: plain(value, self.redactor) for name, value in attributes.items()}
        return report

    def _send_run(self, run: runs.RunState, reason: str, ended_s: float) -> None:
        if self._no_room(self._run_rate):
            return
        run.kept = reason
        _resolve(run)
        report = self.new_report("run", "INFO", run, {})
        del report["severity"]
        report["run"] = run.as_report(ended_s)
        if run.failure_ids:
            report["run"]["failures"] = run.failure_ids[:20]
        if run.request is not None:
            report["request"] = dict(run.request)
        report["trail"] = run.trail.now()
        self.sender.put(report)

    def _describe_process(self, more: Mapping[str, Any]) -> dict[str, Any]:
        found: dict[str, Any] = {
            "host.name": socket.gethostname()[:300],
            "process.pid": os.getpid(),
            # OpenTelemetry's name for what tells one process of a service from all others, before it and beside it.
            "service.instance.id": self._new_id(),
            "process.runtime.name": sys.implementation.name,
            "process.runtime.version": sys.version.split()[0],
            "process.command": (sys.argv[0] if sys.argv else "")[:300],
        }
        if self.settings.environment:
            found["deployment.environment.name"] = self.settings.environment
        return found | dict(more)

    def _settle(self) -> None:
        """Queue what is kept back, counted, or known of what was dropped."""
        self.held.release()
        self.send_tallies()
        self._tell_dropped()

    def _keep_story(self) -> None:
        """What went wrong is on disk: so are the counts it belongs to, soon after."""
        now_s = time.monotonic()
        if self._left_behind.begun and now_s - self._story_s > STORY_EVERY_S:
            self._story_s = now_s
            self._left_behind.keep()

    def _tick(self) -> None:
        """On the keeper's thread, about twice a second."""
        self._ticks += 1
        self.held.write()
        if self._ticks % TALLY_EVERY_TICKS == 0:
            self.send_tallies()
        # The first ones are told at once: somebody may be setting this up, and wonder where their reports are.
        if self._ticks % DROPPED_EVERY_TICKS == 0 or (self.sender.dropped and not self._dropped_told):
            self._tell_dropped()
        if self._hooks is not None:
            self._hooks.stand_in_front()
        if self._stories and not self._left_behind.begun:
            self._left_behind.begin()
        self._left_behind.keep()
        if self.lost_children.waiting:
            self._left_behind.look_for_children()
            self.lost_children.give_up()

    def _release_due(self) -> float:
        """Send what was kept back for long enough; return in how many seconds the next one is due."""
        soonest_s = self.held.soonest_s
        if soonest_s is None:
            return LONGEST_OUTSIDE_S
        if soonest_s <= self.timer():
            self.held.release(due=True)
            soonest_s = self.held.soonest_s
        return LONGEST_OUTSIDE_S if soonest_s is None else max(0.001, soonest_s - self.timer())

    def _tell_dropped(self) -> None:
        """Report what was dropped since the last time, and why: a gap that nobody knows of misleads."""
        dropped = dict(self.sender.dropped)
        new = {why: count - self._dropped_told.get(why, 0) for why, count in dropped.items()}
        new = {why: count for why, count in new.items() if count}
        if not new:
            return
        self._dropped_told = dropped
        said = ", ".join(f"{count:,} because {why}" for why, count in sorted(new.items()))
        report = self.new_report("log", "WARN", None, {f"dropped.{why}": count for why, count in new.items()})
        report |= {"logger": "obitus.client", "message": f"{sum(new.values()):,} reports were dropped: {said}."}
        self.sender.put(report)

    def begin_in_child(self) -> None:
        """A child that was forked here holds dead threads and perhaps held locks: it gets new ones of all that."""
        self.sender.abandon()
        self._left_behind.forget()
        self.held.abandon()
        self._parent = os.getppid()
        self.has_children = False
        self.ending = False
        self._begin()
        # Nothing more yet: most children that only become another program never come to report anything.
        self._process["process.pid"] = os.getpid()
        self._process["service.instance.id"] = self._new_id()


@guarded
def _resolve(run: runs.RunState) -> None:
    """Fill in what is known of a run only by now."""
    if run.resolve is not None:
        run.resolve()
    if run.user is not None and "user.id" not in (run.attributes or {}):
        user = run.user()
        if user is not None:
            run.attach("user.id", str(user)[:300])
