"""Failures beyond what is captured whole: counted with one like them that was, and reported as so many more of it.

Failures are counted together when they have the same form: the types of the exceptions, and the places in the code that
they went through. Finding it takes microseconds, where a capture takes hundreds.
"""

from __future__ import annotations

import copy
from collections import deque
from types import CodeType, FrameType
from typing import Any, Final, NamedTuple

from obitus.client import runs
from obitus.client.base import Base
from obitus.client.counter import Counter
from obitus.client.exception_origin import is_the_apps
from obitus.client.guard import guarded
from obitus.core.bounds import COUNTED, short
from obitus.core.clock import to_text

MOST_FORMS: Final = 200
MOST_IN_STORY: Final = 10
MOST_LINKS: Final = 5
"""Exceptions of a chain, or members of a group, that a form is made of."""
MOST_PLACES: Final = 30
"""Of one exception, the innermost: a recursion has the same form at any depth."""
_OF_THIS_ONE: Final = ("locals", "call")
"""What belongs to one failure, not to all failures like it."""


class Form(NamedTuple):
    """What failures that are counted together have in common."""

    key: tuple[Any, ...]
    codes: list[CodeType]
    """The code objects that the key names by id: while they are held, no other object can have these ids."""


def form_of(error: BaseException, entry_point: str) -> Form:
    """Return the form of an exception in a run of an entry point, which is empty outside of a run."""
    form = Form((), [])
    parts: list[Any] = [entry_point]
    link: BaseException | None = error
    for _ in range(MOST_LINKS):
        if link is None:
            break
        _add(link, parts, form.codes)
        if isinstance(link, BaseExceptionGroup):
            for member in link.exceptions[:MOST_LINKS]:
                _add(member, parts, form.codes)
        cause = link.__cause__
        link = cause if cause is not None else None if link.__suppress_context__ else link.__context__
    return form._replace(key=tuple(parts))


def form_of_place(frame: FrameType, severity: str, entry_point: str) -> Form:
    """Return the form of what an app reports by itself at one place of its code."""
    return Form((entry_point, severity, id(frame.f_code), frame.f_lasti), [frame.f_code])


def _add(error: BaseException, parts: list[Any], codes: list[CodeType]) -> None:
    """Add the type of an exception, and the innermost places that it went through."""
    places: deque[tuple[CodeType, int]] = deque(maxlen=MOST_PLACES)
    traceback = error.__traceback__
    while traceback is not None:
        places.append((traceback.tb_frame.f_code, traceback.tb_lasti))
        traceback = traceback.tb_next
    parts.append(type(error))
    for code, instruction in places:
        parts.append((id(code), instruction))
        codes.append(code)


class _Known:
    """A form with one failure that was captured whole."""

    __slots__ = ("codes", "counter", "latest_ms", "report")

    def __init__(self, codes: list[CodeType], report: dict[str, Any]) -> None:
        self.codes, self.report = codes, report
        self.counter = Counter()
        self.latest_ms = 0


class Alike:
    """The forms of one process, bounded. No lock."""

    def __init__(self, base: Base) -> None:
        self._base = base
        self._forms: dict[tuple[Any, ...], _Known] = {}

    def begin(self) -> None:
        """Begin with nothing counted: in a forked child the counts are the parent's."""
        self._forms = {}

    def learn(self, form: Form, report: dict[str, Any]) -> None:
        """Remember a failure that is reported whole, so that others of its form can be counted with it."""
        if form.key in self._forms:
            return
        if len(self._forms) >= MOST_FORMS and not self._forget_one():
            return
        marks = {name: report[name] for name in ("severity", "handled", "captured_by")}
        marks["exceptions"] = [
            link | {"frames": [{n: v for n, v in frame.items() if n not in _OF_THIS_ONE} for frame in link["frames"]]}
            for link in report["exceptions"]
        ]
        if "run" in report:
            marks["run"] = {"entry_point": report["run"]["entry_point"]}
        self._forms[form.key] = _Known(form.codes, marks)

    def strengthen(self, form: Form, captured_by: str, severity: str) -> None:
        """Mark the failures of this form as unhandled after all."""
        entry = self._forms.get(form.key)
        if entry is not None:
            entry.report |= {"handled": False, "captured_by": captured_by, "severity": severity}

    def count(self, form: Form) -> bool:
        """Count a failure; return False where none of its form has been reported whole."""
        entry = self._forms.get(form.key)
        if entry is None:
            return False
        entry.latest_ms = self._base.clock_ms()
        next(entry.counter.count)
        return True

    def take_back(self, form: Form) -> None:
        """Take one out of the count again, because it is captured after all. Does nothing where the count was reported already."""
        entry = self._forms.get(form.key)
        if entry is not None and entry.counter.waiting:
            entry.counter.taken += 1

    def send(self) -> None:
        """Queue what was counted since the last time."""
        sender = self._base.sender
        for entry in list(self._forms.values()):
            failures = min(entry.counter.waiting, COUNTED)
            if failures and not sender.full:
                report = self._report(entry, failures)
                entry.counter.taken += failures
                entry.counter.id = None
                sender.put(report)

    def look(self) -> list[dict[str, Any]]:
        """Return what ``send`` would queue, with the same ids, and go on counting. It is written down in case the
        process is killed."""
        waiting = [(entry.counter.waiting, entry) for entry in list(self._forms.values()) if entry.counter.waiting]
        waiting.sort(key=lambda each: -each[0])
        return [self._report(entry, min(failures, COUNTED)) for failures, entry in waiting[:MOST_IN_STORY]]

    def _report(self, entry: _Known, failures: int) -> dict[str, Any]:
        if entry.counter.id is None:
            entry.counter.id = self._base.new_id()
        report = self._base.new_report("failure", entry.report["severity"], None, {})
        # It is not this thread that failed.
        report["attributes"].pop("thread.name", None)
        report |= copy.deepcopy(entry.report)
        return report | {"id": entry.counter.id, "time": to_text(entry.latest_ms), "counted": failures}

    def _forget_one(self) -> bool:
        """Make room; what was counted and not reported yet is kept."""
        try:
            del self._forms[next(key for key, known in self._forms.items() if not known.counter.waiting)]
        except (KeyError, RuntimeError, StopIteration) as interrupted:
            if is_the_apps(interrupted):
                raise
            return False
        return True


def entry_point_of(run: runs.RunState | None) -> str:
    """Return the entry point of a run, empty outside of one."""
    return "" if run is None else short(_known_by_now(run) or run.entry_point)


@guarded
def _known_by_now(run: runs.RunState) -> str:
    return run.know_entry_point()
