"""Finding the code of a file and a line in a running process, and checking that it is the requested code."""

from __future__ import annotations

import dis
import gc
import logging
import os
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from types import AsyncGeneratorType, CodeType, CoroutineType, FunctionType, GeneratorType
from typing import Any, Final

from obitus.client.source import STARTED_S, source_of
from obitus.core.tracepoints import TracepointOrder, hash_of, hash_of_line, is_end_of, nearest_line

_OUR_FOLDER: Final = __file__.rpartition("client")[0].replace("\\", "/")
_REFUSED: Final = (_OUR_FOLDER, logging.__file__.replace("\\", "/").rpartition("/")[0] + "/")
_RESUME: Final = dis.opmap["RESUME"]
INLINED: Final = frozenset({"<listcomp>", "<setcomp>", "<dictcomp>", "<genexpr>"})
_RUNNING: Final = {GeneratorType: "gi_code", CoroutineType: "cr_code", AsyncGeneratorType: "ag_code"}
MOST_CANDIDATES: Final = 5


class CannotBeSet(Exception):
    """A tracepoint cannot be set here; says why, and which lines are possible instead."""

    def __init__(self, why: str, offers: Iterable[int] = (), *, waits: bool = False) -> None:
        super().__init__(why)
        self.offers = list(offers)[:3]
        self.waits = waits
        """Whether it can be set later, when code is imported."""


@dataclass
class Loaded:
    """The code of one file in this process."""

    file: str
    roots: dict[int, CodeType] = field(default_factory=dict)
    """By id: hashing a code object looks at all of its content. Code of functions and frames."""
    functions: list[FunctionType] = field(default_factory=list)
    running: dict[int, CodeType] = field(default_factory=dict)
    """Code of calls in progress."""
    names: dict[str, Any] = field(default_factory=dict)
    """Globals of its module, as far as they are known."""

    def all_code(self) -> dict[int, CodeType]:
        """Return all code objects of the file, those inside of others too, by identity."""
        code_by_id: dict[int, CodeType] = {}
        for root in self.roots.values():
            for code in with_inner(root):
                code_by_id[id(code)] = code
        return code_by_id


def loaded(ends: Iterable[str]) -> dict[str, Loaded]:
    """Return the code of all files whose path ends with one of ``ends``, by file: of functions, frames, generators
    and coroutines. One pass over the garbage collector's objects serves all tracepoints: about 50 ms for a million
    objects.
    """
    wanted = {end.replace("\\", "/").rpartition("/")[2] for end in ends}
    modules: dict[str, Loaded] = {}
    file_wanted: dict[str, bool] = {}

    def of(code: CodeType) -> Loaded | None:
        file = code.co_filename
        is_wanted = file_wanted.get(file)
        if is_wanted is None:
            is_wanted = file_wanted[file] = file.replace("\\", "/").rpartition("/")[2] in wanted
        return modules.setdefault(file, Loaded(file)) if is_wanted else None

    for live in gc.get_objects():
        kind = type(live)
        if kind is FunctionType:
            place = of(live.__code__)
            if place is not None:
                place.roots[id(live.__code__)] = live.__code__
                place.functions.append(live)
                place.names = place.names or live.__globals__
        elif kind in _RUNNING:
            code = getattr(live, _RUNNING[kind])
            if type(code) is CodeType and (place := of(code)) is not None:
                place.roots[id(code)] = place.running[id(code)] = code
    for frame in list(sys._current_frames().values()):
        at: Any = frame
        while at is not None:
            if (place := of(at.f_code)) is not None:
                place.roots[id(at.f_code)] = place.running[id(at.f_code)] = at.f_code
                place.names = place.names or at.f_globals
            at = at.f_back
    return modules


def with_inner(code: CodeType) -> Iterator[CodeType]:
    """Yield a code object and all those inside of it."""
    waiting = [code]
    while waiting:
        outer = waiting.pop()
        yield outer
        waiting += [inner for inner in outer.co_consts if type(inner) is CodeType]


def file_meant(order: TracepointOrder, files: Iterable[str]) -> str:
    """Return the file of a tracepoint; raises CannotBeSet where there is none, or more than one."""
    matching = sorted(
        {file for file in files if is_end_of(file, order.file)}
        | {file for file in _module_files() if is_end_of(file, order.file)}
    )
    if not matching:
        raise CannotBeSet(
            f"no file that ends in {order.file} is loaded here; it is set when one is imported", waits=True
        )
    if len(matching) > 1:
        shown = ", ".join(matching[:MOST_CANDIDATES])
        raise CannotBeSet(f"{len(matching)} files end like that ({shown}); name more of the path")
    (file,) = matching
    plain = file.replace("\\", "/")
    if plain.startswith(_REFUSED):
        raise CannotBeSet(
            "the client itself and `logging` are not looked into: a tracepoint there would set itself off"
        )
    return file


def _module_files() -> Iterator[str]:
    for module in list(sys.modules.values()):
        attributes = getattr(module, "__dict__", None)
        file = attributes.get("__file__") if type(attributes) is dict else None
        if type(file) is str:
            yield file


def lines_of(code: CodeType) -> frozenset[int]:
    """Return the lines of a code object's instructions, without those that only enter a function."""
    begin = _end_of_entry(code)
    return frozenset(line for _, end, line in code.co_lines() if line is not None and end > begin)


def line_of_entry(code: CodeType) -> int:
    """Return the line on which a call enters, where its first code is on that line too; 0 where it is not."""
    begin = _end_of_entry(code)
    entry = next((line for _, end, line in code.co_lines() if end >= begin and line is not None), 0)
    first = next((line for start, end, line in code.co_lines() if end > begin and line is not None), 0)
    return entry if entry == first else 0


def _end_of_entry(code: CodeType) -> int:
    octets = code.co_code
    for at in range(0, min(len(octets), 64), 2):
        if octets[at] == _RESUME:
            return at + 2
    return 0


def code_on(line: int, of: Iterable[CodeType]) -> list[CodeType]:
    """Return the code objects that run a line: those of functions where there are any, else those of classes and the module."""
    having = [code for code in of if line in lines_of(code)]
    inside = {id(inner) for code in having for inner in with_inner(code) if inner is not code}
    # A comprehension on the line of its function runs with that line; where it was written inside of another code object's line
    # newer interpreters have no code object for it at all.
    having = [code for code in having if not (code.co_name in INLINED and id(code) in inside)]
    functions = [code for code in having if _is_function(code)]
    return functions or having


def _is_function(code: CodeType) -> bool:
    # CO_OPTIMIZED: locals in slots, as functions have them.
    return bool(code.co_flags & 0x1)


@dataclass(frozen=True)
class Text:
    """The source of a file as it is now."""

    lines: tuple[str, ...]
    hash: str
    code: CodeType | None
    """Its compiled code; None where it does not compile."""
    is_newer: bool
    """Whether it was written after this process had started: then the running code may be older."""

    @property
    def code_lines(self) -> set[int]:
        """Lines that run."""
        return {line for one in with_inner(self.code) for line in lines_of(one)} if self.code is not None else set()


def text_of(file: str, names: dict[str, Any]) -> Text | None:
    """Return the source of a file, None where it cannot be read."""
    try:
        with open(file, "rb") as opened:  # noqa: PTH123 - a name of a file from a code object
            octets = opened.read(20_000_000)
            is_newer = os.fstat(opened.fileno()).st_mtime > STARTED_S
    except (OSError, ValueError):
        lines = source_of(file, names)
        if not lines:
            return None
        octets, is_newer = "".join(lines).encode(), False
    try:
        code: CodeType | None = compile(octets, file, "exec", dont_inherit=True)
    except (SyntaxError, ValueError):
        code = None
    return Text(tuple(octets.decode("utf-8", "replace").splitlines()), hash_of(octets), code, is_newer)


def check(order: TracepointOrder, text: Text | None, running: Iterable[CodeType], release: str) -> None:
    """Raise CannotBeSet where the running code differs from that of the tracepoint, or its line has no code."""
    if order.release and order.release != release:
        raise CannotBeSet(f"release {release or '(none)'} runs here; it was set for {order.release}")
    if text is None:
        if order.hash or order.code_hash:
            raise CannotBeSet("the source of the running code cannot be read, so it cannot be compared")
        return
    if text.is_newer and any(not _is_in(code, text) for code in running):
        raise CannotBeSet(
            "the file was changed after the app had loaded it; set it on the code that runs, or restart the app"
        )
    if (order.hash and order.hash != text.hash) or (order.code_hash and not _has_at(text, order)):
        nearest = nearest_line(text.lines, order.code_hash, order.line)
        if nearest == order.line:
            return
        advice = f"the requested line is line {nearest} here" if nearest else "the requested line is not in it"
        if order.hash and not order.code_hash:
            advice = "set it again with the source that runs here"
        raise CannotBeSet(f"another version of the file runs here: {advice}", [nearest] if nearest else [])
    if order.line not in text.code_lines and text.code is not None:
        after = sorted(text.code_lines, key=lambda line: (abs(line - order.line), line))[:2]
        shown = " and ".join(map(str, sorted(after)))
        raise CannotBeSet(
            f"line {order.line} has no code that runs; the nearest lines with code are {shown}", sorted(after)
        )


def _has_at(text: Text, order: TracepointOrder) -> bool:
    return 0 < order.line <= len(text.lines) and hash_of_line(text.lines[order.line - 1]) == order.code_hash


def _is_in(code: CodeType, text: Text) -> bool:
    """Whether the source compiles to the running code."""
    if text.code is None:
        return False
    for inner in with_inner(text.code):
        if (
            inner.co_qualname == code.co_qualname
            and inner.co_firstlineno == code.co_firstlineno
            and inner.co_code == code.co_code
            and list(inner.co_lines()) == list(code.co_lines())
        ):
            return True
    return False


@dataclass(frozen=True)
class PlacedTracepoint:
    """A tracepoint, and the code in which it is set."""

    point: Any
    codes: tuple[CodeType, ...]


Lines = dict[int, tuple[Any, ...]]
"""The tracepoints on each line of a code object."""


def targets_in(code: CodeType, points: Iterable[Any]) -> list[PlacedTracepoint]:
    """Return the tracepoints in a module that is about to run, by their code."""
    inside = list(with_inner(code))
    return [PlacedTracepoint(point, tuple(code_on(point.order.line, inside))) for point in points]


def by_code(targets: Iterable[PlacedTracepoint]) -> dict[int, tuple[CodeType, Lines]]:
    """Return each code object with tracepoints, by id, with the points on its lines."""
    lines_by_code: dict[int, tuple[CodeType, Lines]] = {}
    for target in targets:
        line = target.point.order.line
        for code in target.codes:
            lines = lines_by_code.setdefault(id(code), (code, {}))[1]
            lines[line] = (*lines.get(line, ()), target.point)
    return lines_by_code
