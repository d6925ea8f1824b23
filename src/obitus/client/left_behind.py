"""What a process can no longer report when it is killed: open runs, crashes, counts. It is kept on disk while the
process lives, and reported by the next one."""

from __future__ import annotations

import copy
from typing import Any, Final

from obitus.client.alike import Alike
from obitus.client.base import Base
from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.client.hard_ends import Life, Story, read_ended
from obitus.client.lost_children import LostChildren
from obitus.client.open_runs import OpenRuns
from obitus.client.trail import finish_trail

STORY_AFTER_S: Final = 0.25
MOST_RUNS: Final = 50


class LeftBehind:
    """Keeps one reporter's story on disk, and reports what earlier processes left."""

    def __init__(
        self, base: Base, open_runs: OpenRuns, alike: Alike, lost_children: LostChildren, *, is_child: bool
    ) -> None:
        self._base, self._runs, self._alike, self._lost_children = base, open_runs, alike, lost_children
        self._is_child = is_child
        self._life: Life | None = None
        self._in_story: list[int] = []
        self.begun = False
        self.left = False
        """Whether the open runs are left for the parent to report."""

    def begin(self) -> None:
        """Report what was left, and put the marks of this process in place. Logs where it cannot."""
        self.begun = True
        goal = self._base.settings.spool_of_address
        if goal is None:
            return
        folder = goal / "lives"
        try:
            if not self._is_child:
                # It may have to import the reader of stack traces, which only the process that called watch() does, at its start.
                read_ended(folder, self._report)
            life = Life(folder, self._base.family)
            life.begin()
            self._life = life
        except OSError as error:
            if is_the_apps(error):
                raise
            warning = f"Obitus: {folder} cannot be used ({error}), so hard ends go unseen."
            self._base.sender.sayings.say("life", warning)

    def look_for_children(self) -> None:
        """Report what ended children left, once their parent knows of their end."""
        goal = self._base.settings.spool_of_address
        if goal is not None:
            read_ended(goal / "lives", self._report_child, family=self._base.family)

    def _report_child(self, crash: str, story: Story) -> bool:
        """Report a child's open runs; return whether its marks can be removed."""
        if crash.strip():
            # Reading it may import modules, which no thread of the client does: the next start reads it.
            return False
        was_reported = False
        for open_run in story.get("runs", ()):
            chain = self._lost_children.chain_for(open_run) if isinstance(open_run, dict) else None
            if chain is None:
                continue
            was_reported = True
            report = self._base.new_report("failure", "ERROR", None, {}) | open_run
            report |= {"kind": "failure", "handled": False, "captured_by": "parent", "severity": "ERROR"}
            report["exceptions"] = chain
            (report.get("run") or {})["outcome"] = "failed"
            self._base.sender.put(report)
            run = open_run.get("run") or {}
            self._runs.tally.add(str(run.get("entry_point", "")), "failed", None, float(run.get("duration_ms") or 0), self._base.clock_ms())  # fmt: skip
        if not was_reported:
            # Its parent may still learn of its end; if not, the next start reports it.
            return False
        self._put_tallies(story)
        return True

    def _put_tallies(self, story: Story) -> None:
        for tally in story.get("tallies", ()):
            if isinstance(tally, dict):
                self._base.sender.put(tally)

    def keep(self) -> None:
        """Write the open runs and the counts to disk."""
        if self._life is not None and not self.left:
            self._life.check_crash_file()
            self._life.tell(self._story())

    def is_outdated(self) -> bool:
        """Whether the story on disk still has a run that has ended: after a kill now, that would be reported as cut off."""
        return any(key not in self._runs.open for key in self._in_story)

    def give_up_crashes(self) -> None:
        """The app handles crashes itself."""
        if self._life is not None:
            self._life.give_up_crashes()

    def leave(self) -> None:
        """Leave the marks and the latest story where they are."""
        self.left = True

    def end(self) -> None:
        """This process ends properly: remove its marks."""
        if self.left:
            return
        if self._life is not None:
            self._life.end()
            self._life = None

    def forget(self) -> None:
        """In a forked child: close the parent's marks."""
        if self._life is not None:
            self._life.forget()

    def _story(self) -> Story | None:
        """Return the runs that have been open for a while, and the counts that are not sent yet. In the form of
        reports, redacted like everything that is written.
        """
        now_s = self._base.timer()
        open_runs = {}
        for key, run in list(self._runs.open.items()):
            if now_s - run.started_s < STORY_AFTER_S:
                continue
            guarded(run.know_more)()
            report = self._base.new_report("failure", "FATAL", run, {})
            report["id"] = run.note_end(report["id"])
            report["run"] = run.as_report(now_s)
            report["trail"] = run.trail.now()
            finish_trail(report)
            if run.request is not None:
                # Redaction changes its argument, and the run continues.
                report["request"] = copy.deepcopy(run.request)
            open_runs[key] = self._base.redactor.report(report)
        tallies = self._tallies()
        # A run that ended meanwhile was counted: written as open too, it would be reported as cut off.
        while ended := open_runs.keys() - self._runs.open.keys():
            for key in ended:
                del open_runs[key]
            tallies = self._tallies()
        self._in_story = list(open_runs)[:MOST_RUNS]
        return (
            {"runs": [open_runs[key] for key in self._in_story], "tallies": tallies} if open_runs or tallies else None
        )

    def _tallies(self) -> list[dict[str, Any]]:
        counted = [*(self._base.released(tally) for tally in self._runs.tally.look()), *self._alike.look()]
        return [self._base.redactor.report(report) for report in counted]

    def _report(self, crash: str, story: Story) -> bool:
        """Report what one process left: what faulthandler wrote, and its story."""
        from obitus.core.stacks import find_stacks, report_form

        stacks = find_stacks(crash) if crash.strip() else []
        chain = report_form(stacks[-1].chain) if stacks else []
        failed_runs = [run for run in story.get("runs", ()) if isinstance(run, dict)]
        for failed_run in failed_runs or ([{}] if chain else []):
            # Id, release, process and time are those of the ended process: reported twice, it is one report.
            report = self._base.new_report("failure", "FATAL", None, {}) | failed_run
            report |= {"kind": "failure", "handled": False, "captured_by": "next start", "severity": "FATAL"}
            during = (failed_run.get("run") or {}).get("entry_point", "a run")
            report["exceptions"] = chain or [
                {"type": "Killed", "message": f"the process ended without a word during {during}", "frames": []}
            ]
            self._base.sender.put(report)
        self._put_tallies(story)
        return True
