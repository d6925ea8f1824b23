"""One code object with calls in it that come before each of some lines runs (Python 3.11).

A line begins where the interpreter's own tracing says it does (`Objects/codeobject.c`, line starts of PEP 669): at an instruction that
comes after one of another line, at a jump that comes from another line, at a handler of exceptions.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from types import CodeType
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.client.tracepoints.places import INLINED, CannotBeSet, Lines
from obitus.client.tracepoints.points import Point

_getframe: Final = sys._getframe
_ENTRY: Final = frozenset({"RESUME", "MAKE_CELL", "COPY_FREE_VARS", "RETURN_GENERATOR", "GEN_START"})
_BELONGS_TO_THE_NEXT: Final = frozenset({"KW_NAMES", "PRECALL"})
_ENDS_AN_ITEM: Final = frozenset({"LIST_APPEND", "SET_ADD", "MAP_ADD", "RETURN_VALUE", "JUMP_BACKWARD"})
"""Instructions of a comprehension, which the compiler assigns to any line."""
_LEADS_NOWHERE: Final = frozenset(
    {"RETURN_VALUE", "RAISE_VARARGS", "RERAISE", "JUMP_FORWARD", "JUMP_BACKWARD", "JUMP_BACKWARD_NO_INTERRUPT"}
)


def library() -> Any:
    """Return the library ``bytecode``; raises CannotBeSet where it is not installed."""
    try:
        import bytecode
    except ImportError as missing:
        if is_the_apps(missing):
            raise
        raise CannotBeSet("on Python 3.11 this needs a library: `pip install 'obitus[tracepoints]'`") from None
    return bytecode


def with_calls(code: CodeType, lines: Lines) -> CodeType:
    """Return a code object that calls back before each of some lines runs."""
    return _Rewriting(code, lines).done()


class _Rewriting:
    """Goes through the instructions of one code object, in order."""

    def __init__(self, code: CodeType, lines: Lines) -> None:
        self._library = library()
        self._lines = lines
        self._listed = self._library.Bytecode.from_code(code)
        self._passed_by = _ENTRY | _ENDS_AN_ITEM if code.co_name in INLINED else _ENTRY
        self._jumps: dict[int, set[int | None]] = {}
        """By the identity of a label: the lines that jump there."""
        self._handlers: set[int] = set()
        """Labels that exceptions come to."""
        for listed in self._listed:
            if isinstance(listed, self._library.TryBegin):
                self._handlers.add(id(listed.target))
            elif isinstance(listed, self._library.Instr) and isinstance(listed.arg, self._library.Label):
                self._jumps.setdefault(id(listed.arg), set()).add(listed.lineno)
        self._changed: list[Any] = []
        self._labels: list[int] = []
        """Labels right before the current instruction."""
        self._before: int | None = None
        """The line of the previous instruction."""
        self._name_before = ""
        self._follows = True
        """Whether the previous instruction leads here."""

    def done(self) -> CodeType:
        """Return the code object with its calls."""
        instruction, label = self._library.Instr, self._library.Label
        entered = not any(isinstance(listed, instruction) and listed.name == "RESUME" for listed in self._listed)
        for listed in self._listed:
            if isinstance(listed, label):
                self._labels.append(id(listed))
            elif isinstance(listed, instruction):
                if entered:
                    self._look_at(listed)
                enters = listed.name == "RESUME" and not entered
                entered |= enters
                self._before = None if enters else listed.lineno
                self._name_before = listed.name
                self._follows = listed.name not in _LEADS_NOWHERE
                self._labels = []
            self._changed.append(listed)
        self._listed[:] = self._changed
        made: CodeType = self._listed.to_code()
        return made

    def _look_at(self, listed: Any) -> None:
        """Put calls before an instruction, where it begins a line with tracepoints."""
        line = listed.lineno
        points = self._lines.get(line) if line is not None else None
        if not points or listed.name in self._passed_by or self._name_before in _BELONGS_TO_THE_NEXT:
            return
        comes_from = {source for label in self._labels for source in self._jumps.get(label, ())}
        handles = bool(self._handlers.intersection(self._labels))
        begins = self._follows and line != self._before
        place = len(self._changed) - len(self._labels)
        only_labels = all(isinstance(part, self._library.Label) for part in self._changed[place:])
        calling = self._calling(points, listed.location)
        if begins and self._labels and only_labels and comes_from <= {line} and not handles:
            # A jump from the same line does not begin it again.
            self._changed[place:place] = calling
        elif self._follows and line == self._before and comes_from - {line} and only_labels:
            # A loop continues here: a jump from the line's own beginning does not begin it again.
            over = self._library.Label()
            self._changed.insert(place, self._library.Instr("JUMP_FORWARD", over, location=listed.location))
            self._changed += [*calling, over]
        elif begins or comes_from - {line} or handles:
            self._changed += calling

    def _calling(self, points: tuple[Point, ...], location: Any) -> list[Any]:
        instruction = self._library.Instr
        return [
            instruction("PUSH_NULL", location=location),
            instruction("LOAD_CONST", _caller(points), location=location),
            instruction("PRECALL", 0, location=location),
            instruction("CALL", 0, location=location),
            instruction("POP_TOP", location=location),
        ]


def _caller(points: tuple[Point, ...]) -> Callable[[], None]:
    def line_runs() -> None:
        frame = _getframe(1)
        for point in points:
            point.run(frame)

    return line_runs
