"""From an exception to the ``exceptions`` of a report: the chain, its frames, source lines and locals."""

from __future__ import annotations

import linecache
import site
import sysconfig
from types import CodeType, FrameType, TracebackType
from typing import Any, Final

from obitus.client.values import show
from obitus.core.frames import looks_like_library
from obitus.core.redaction import Redactor

MOST_FRAMES: Final = 200
FRAMES_KEPT_AT_START: Final = 60
MOST_LINKS: Final = 20
MOST_MESSAGE: Final = 8000
MOST_LOCALS: Final = 40
MOST_LOCALS_CHARS: Final = 120_000
SOURCE_LINES: Final = 3
MOST_SOURCE_LINE: Final = 300
MOST_CACHED: Final = 4000


_OUR_FOLDER: Final = __file__.rpartition("capture.py")[0]


def _library_folders() -> tuple[str, ...]:
    paths = sysconfig.get_paths()
    found = {paths[name] for name in ("stdlib", "platstdlib", "purelib", "platlib") if paths.get(name)}
    try:
        found.add(site.getusersitepackages())
    except Exception:
        pass
    return tuple(sorted(folder.rstrip("/\\") + "/" for folder in found))


class Capture:
    """Turns exceptions into the report's form. Keeps what does not change about a place in the code, bounded."""

    def __init__(self, redactor: Redactor, own: tuple[str, ...] = ()) -> None:
        self._redactor = redactor
        self._own = own
        self._library_folders = _library_folders()
        self._places: dict[tuple[CodeType, int], dict[str, Any]] = {}

    def chain(self, error: BaseException) -> list[dict[str, Any]]:
        """Return the exception chain, from the outermost to the root cause, members of groups included."""
        found: list[dict[str, Any]] = []
        seen: set[int] = set()
        waiting: list[tuple[BaseException, str | None]] = [(error, None)]
        room = [MOST_LOCALS_CHARS]
        while waiting and len(found) < MOST_LINKS:
            current, relation = waiting.pop(0)
            if id(current) in seen:
                continue
            seen.add(id(current))
            link = self._link(current, room)
            if relation is not None:
                link["relation"] = relation
            found.append(link)
            if isinstance(current, BaseExceptionGroup):
                waiting += [(member, "member") for member in current.exceptions]
            if current.__cause__ is not None:
                waiting.insert(0, (current.__cause__, "cause"))
            elif current.__context__ is not None and not current.__suppress_context__:
                waiting.insert(0, (current.__context__, "context"))
        return found

    def _link(self, error: BaseException, room: list[int]) -> dict[str, Any]:
        frames, left_out = self._frames(error.__traceback__, room)
        link: dict[str, Any] = {"type": type_name(type(error)), "message": message_of(error), "frames": frames}
        if left_out:
            link["frames_left_out"] = left_out
        notes = getattr(error, "__notes__", None)
        if type(notes) is list and notes:
            link["notes"] = [note[:MOST_MESSAGE] for note in notes[:50] if type(note) is str]
        return link

    def _frames(self, traceback: TracebackType | None, room: list[int]) -> tuple[list[dict[str, Any]], int]:
        places: list[tuple[FrameType, int]] = []
        while traceback is not None:
            if not traceback.tb_frame.f_code.co_filename.startswith(_OUR_FOLDER):
                places.append((traceback.tb_frame, traceback.tb_lineno))
            traceback = traceback.tb_next
        left_out = max(0, len(places) - MOST_FRAMES)
        if left_out:
            places = places[:FRAMES_KEPT_AT_START] + places[FRAMES_KEPT_AT_START - MOST_FRAMES :]
        frames: list[dict[str, Any]] = []
        # The innermost frames get their locals first: that is where it failed. Library code shows its locals only
        # where it raised: the rest is bulk, and holds much that nobody wants to see leave.
        for frame, line in reversed(places):
            place = dict(self._place(frame, line))
            if room[0] > 0 and (place["own"] or not frames):
                values = self._locals(frame, room)
                if values:
                    place["locals"] = values
            frames.append(place)
        frames.reverse()
        return frames, left_out

    def _locals(self, frame: FrameType, room: list[int]) -> dict[str, str]:
        shown: dict[str, str] = {}
        # A module's locals are its globals: mostly imports and functions, and much of it.
        module_level = frame.f_locals is frame.f_globals
        for name, value in list(frame.f_locals.items()):
            if name.startswith("__") or (module_level and (callable(value) or type(value).__name__ == "module")):
                continue
            if len(shown) >= MOST_LOCALS or room[0] <= 0:
                break
            text = show(value, self._redactor)
            room[0] -= len(text) + len(name)
            shown[name[:300]] = text
        return shown

    def _place(self, frame: FrameType, line: int) -> dict[str, Any]:
        key = (frame.f_code, line)
        known = self._places.get(key)
        if known is None:
            if len(self._places) >= MOST_CACHED:
                self._places.clear()
            known = self._places[key] = self._describe(frame, line)
        return known

    def _describe(self, frame: FrameType, line: int) -> dict[str, Any]:
        code, file = frame.f_code, frame.f_code.co_filename
        module = _module_name(frame)
        place: dict[str, Any] = {
            "file": file[:2000],
            "module": module[:300],
            "function": code.co_qualname[:300],
            "line": line,
            "own": self._is_own(file, module),
        }
        lines = linecache.getlines(file, frame.f_globals)
        if 0 < line <= len(lines):
            place["source"] = {"line": self._source(lines[line - 1])}
            if place["own"]:
                place["source"]["before"] = [
                    self._source(text) for text in lines[max(0, line - 1 - SOURCE_LINES) : line - 1]
                ]
                place["source"]["after"] = [self._source(text) for text in lines[line : line + SOURCE_LINES]]
        return place

    def _source(self, text: str) -> str:
        return self._redactor.source(text.rstrip("\n")[:MOST_SOURCE_LINE])

    def _is_own(self, file: str, module: str) -> bool:
        if any(module == name or module.startswith(name + ".") for name in self._own):
            return True
        return not (file.startswith(("<", *self._library_folders)) or looks_like_library(file))


def type_name(kind: type) -> str:
    """Return the name of an exception type, with its module unless built in."""
    name = f"{kind.__module__}.{kind.__qualname__}"
    return name.removeprefix("builtins.").removeprefix("__main__.")[:300]


def message_of(error: BaseException) -> str:
    """Return the exception's message. Its ``__str__`` is the app's own, so it may raise: then that is said instead."""
    try:
        text = str(error)
    except Exception as raised:
        return f"[no message: {type(error).__name__}.__str__ raised {type(raised).__name__}]"
    return text if len(text) <= MOST_MESSAGE else text[: MOST_MESSAGE - 1] + "…"


def _module_name(frame: FrameType) -> str:
    name = frame.f_globals.get("__name__")
    if name == "__main__":
        spec = frame.f_globals.get("__spec__")
        named = getattr(spec, "name", None)
        if isinstance(named, str):
            return named
        return frame.f_code.co_filename.replace("\\", "/").rpartition("/")[2].removesuffix(".py")
    return name if isinstance(name, str) else ""
