"""Lines that call back, on Python 3.11: a function's code is replaced by the same code with a call on that line, and
restored later. The library ``bytecode`` disassembles and assembles the code (extra ``obitus[tracepoints]``).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from types import CodeType, FunctionType

from obitus.client.exception_origin import is_the_apps
from obitus.client.tracepoints.calling import library, with_calls
from obitus.client.tracepoints.places import Lines, Loaded, PlacedTracepoint, by_code, loaded, targets_in
from obitus.client.tracepoints.points import Point


class Rewritten:
    """Sets and removes; used by one thread at a time."""

    def __init__(self) -> None:
        self._new: dict[int, tuple[CodeType, CodeType, Lines]] = {}
        """By the id of the original code: the original, its replacement, and the points on its own lines."""
        self._troubles: dict[int, str] = {}
        self._before: dict[int, tuple[CodeType, CodeType]] = {}
        """By the id of a replacement: itself, and the original."""

    def known(self, file: str) -> dict[int, CodeType]:
        """Return the code of a file with tracepoints."""
        return {key: code for key, (code, _, _) in self._new.items() if code.co_filename == file}

    def original(self, code: CodeType) -> CodeType:
        """Return the original of a code object; itself where it was not replaced."""
        original = self._before.get(id(code))
        return original[1] if original is not None else code

    def said_of_running(self, calls: int) -> str:
        """Return the remark for calls of the code that are in progress."""
        return "it is set from the next call on; a call was in progress" if calls else ""

    def use(self, targets: Iterable[PlacedTracepoint], places: Mapping[str, Loaded]) -> dict[int, str]:
        """Set exactly these; return why some cannot be, by id. Raises CannotBeSet where none can."""
        library()
        self._troubles = {}
        lines = _lines_of(targets)
        made: dict[int, CodeType] = {}
        kept = self._new
        self._new = {}
        for place in places.values():
            for function in place.functions:
                self._give(function, lines, made, kept)
        return self._troubles

    def loaded(self, code: CodeType, points: list[Point]) -> CodeType:
        """Set tracepoints in a module before it runs; return the code to run."""
        return self._made(code, _lines_of(targets_in(code, points)), {}, {})

    def end(self) -> None:
        """Restore everything."""
        files = {before.co_filename for _, before in self._before.values()}
        if files:
            for place in loaded(files).values():
                for function in place.functions:
                    self._give(function, {}, {}, {})
        self._new.clear()
        self._before.clear()

    def _give(
        self,
        function: FunctionType,
        lines: Mapping[int, Lines],
        code_by_id: dict[int, CodeType],
        kept: Mapping[int, tuple[CodeType, CodeType, Lines]],
    ) -> None:
        code = function.__code__
        replacement = self._made(self.original(code), lines, code_by_id, kept)
        if replacement is not code:
            function.__code__ = replacement

    def _with_calls(self, code: CodeType, lines: Lines) -> CodeType:
        try:
            return with_calls(code, lines)
        except Exception as trouble:
            if is_the_apps(trouble):
                raise
            why = f"the code of {code.co_qualname} cannot be taken apart ({type(trouble).__name__}: {trouble})"
            self._troubles.update((point.order.id, why) for points in lines.values() for point in points)
            return code

    def _made(
        self,
        before: CodeType,
        lines: Mapping[int, Lines],
        code_by_id: dict[int, CodeType],
        kept: Mapping[int, tuple[CodeType, CodeType, Lines]],
    ) -> CodeType:
        """Return the replacement of a code object: itself where neither it nor an inner one has tracepoints."""
        code_made = code_by_id.get(id(before))
        if code_made is not None:
            return code_made
        own = lines.get(id(before), {})
        inner = [
            self._made(constant, lines, code_by_id, kept) if type(constant) is CodeType else constant
            for constant in before.co_consts
        ]
        same_inside = all(one is other for one, other in zip(inner, before.co_consts, strict=True))
        if not own and same_inside:
            code_by_id[id(before)] = before
            return before
        lines_before = kept.get(id(before))
        if lines_before is not None and lines_before[2] == own and same_inside:
            code = lines_before[1]
        else:
            code = before if same_inside else before.replace(co_consts=tuple(inner))
            if own:
                code = self._with_calls(code, own)
        code_by_id[id(before)] = code
        self._new[id(before)] = (before, code, dict(own))
        self._before[id(code)] = (code, before)
        return code


def _lines_of(targets: Iterable[PlacedTracepoint]) -> dict[int, Lines]:
    return {key: lines for key, (_, lines) in by_code(targets).items()}
