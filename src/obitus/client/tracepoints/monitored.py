"""Lines that call back, from Python 3.12 on: `sys.monitoring` (PEP 669), for single code objects.

All other code runs unchanged. A line without a tracepoint in such a code object calls back once, and is switched off there.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Mapping
from types import CodeType
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.client.tracepoints.places import (
    CannotBeSet,
    Lines,
    Loaded,
    PlacedTracepoint,
    by_code,
    line_of_entry,
    targets_in,
)
from obitus.client.tracepoints.points import Point

_TOOLS: Final = (4, 3)
"""Numbers that PEP 669 gives to no kind of tool."""
_getframe: Final = sys._getframe


_one_liner: Final[Callable[[], None]] = lambda: None  # noqa: E731 - it has to be on one line


class Monitored:
    """Sets and removes; used by one thread at a time."""

    def __init__(self) -> None:
        monitoring: Any = sys.monitoring  # type: ignore[attr-defined,unused-ignore]
        self._monitoring = monitoring
        self._line, self._start = monitoring.events.LINE, monitoring.events.PY_START
        self._sees_one_liners = True
        self._tool: int | None = None
        self._lines_of: dict[int, tuple[CodeType, Lines]] = {}
        """By the id of a code object: itself, held so that no other gets its id, and the points on its lines."""

    def known(self, file: str) -> dict[int, CodeType]:
        """Return the code of a file with tracepoints."""
        return {key: code for key, (code, _) in self._lines_of.items() if code.co_filename == file}

    def original(self, code: CodeType) -> CodeType:
        """Return the original of a code object: itself, since none is changed here."""
        return code

    def said_of_running(self, _: int) -> str:
        """Return the remark for calls that are in progress: none, since they call back too."""
        return ""

    def use(self, targets: Iterable[PlacedTracepoint], places: Mapping[str, Loaded]) -> dict[int, str]:
        """Set exactly these; return why some cannot be, by id. Raises CannotBeSet where none can."""
        del places
        chosen = by_code(targets)
        for key, (code, _) in list(self._lines_of.items()):
            if key not in chosen:
                self._set(code, 0)
                del self._lines_of[key]
        for key, (code, lines) in chosen.items():
            before = self._lines_of.get(key)
            if before is not None and before[1] == lines:
                continue
            self._lines_of[key] = (code, lines)
            self._set(code, 0)
            # Set again, lines that were switched off call back again.
            self._set(code, self._events_of(code, lines))
        if not self._lines_of:
            self.end()
        return {}

    def loaded(self, code: CodeType, points: list[Point]) -> CodeType:
        """Set tracepoints in a module before it runs; return the code to run."""
        for key, (code_found, lines) in by_code(targets_in(code, points)).items():
            self._lines_of[key] = (code_found, lines)
            self._set(code_found, self._events_of(code_found, lines))
        return code

    def end(self) -> None:
        """Remove everything."""
        for code, _ in self._lines_of.values():
            self._set(code, 0)
        self._lines_of.clear()
        if self._tool is not None:
            for event in (self._line, self._start):
                self._monitoring.register_callback(self._tool, event, None)
            self._monitoring.free_tool_id(self._tool)
            self._tool = None

    def _events_of(self, code: CodeType, lines: Iterable[int]) -> int:
        """Return the events that call back for some lines of a code object.

        Python 3.13 calls back on the line of a function's own `def` or `lambda` only where the start of the call is monitored too.
        """
        if self._tool is None:
            self._begin()
        own = line_of_entry(code)
        events: int = self._line
        return events | self._start if own in lines and not self._sees_one_liners else events

    def _set(self, code: CodeType, events: int) -> None:
        if events and self._tool is None:
            self._begin()
        if self._tool is not None:
            self._monitoring.set_local_events(self._tool, code, events)

    def _begin(self) -> None:
        for number in _TOOLS:
            try:
                self._monitoring.use_tool_id(number, "obitus")
            except ValueError as taken:
                if is_the_apps(taken):
                    raise
                continue
            self._tool = number
            self._sees_one_liners = self._try_a_one_liner(number)
            self._monitoring.register_callback(number, self._line, self._callback())
            self._monitoring.register_callback(number, self._start, _nothing)
            return
        raise CannotBeSet("other tools in this process have taken all places that `sys.monitoring` has for them")

    def _try_a_one_liner(self, tool: int) -> bool:
        """Whether this interpreter calls back for a function written on one line."""
        seen: list[int] = []
        self._monitoring.register_callback(tool, self._line, lambda _, line: seen.append(line))
        self._monitoring.set_local_events(tool, _one_liner.__code__, self._line)
        _one_liner()
        self._monitoring.set_local_events(tool, _one_liner.__code__, 0)
        return bool(seen)

    def _callback(self) -> Any:
        lines_of, off = self._lines_of, self._monitoring.DISABLE

        def line_runs(code: CodeType, line: int) -> Any:
            lines = lines_of.get(id(code))
            points = lines[1].get(line) if lines is not None else None
            if points is None:
                return off
            frame = _getframe(1)
            for point in points:
                point.run(frame)
            return None

        return line_runs


def _nothing(_: CodeType, __: int) -> None:
    pass
