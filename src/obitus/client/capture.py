"""From an exception to the ``exceptions`` of a report: the chain, its frames, source lines and locals."""

from __future__ import annotations

import site
import sys
import sysconfig
import time
from collections import deque
from types import CodeType, FrameType, TracebackType
from typing import Any, Final

from obitus.client.call import CallKeeper
from obitus.client.native import Worker, is_finalizing
from obitus.client.signatures import parameter_names
from obitus.client.source import changed_since, nth_alike, source_of
from obitus.client.values import MOST_CHARS, MOST_DEPTH, MOST_STRING, plain, show
from obitus.core.bounds import LOCALS, medium, short
from obitus.core.frames import COMPILED_ENDINGS, looks_like_library, package_of
from obitus.core.redaction import Redactor

MOST_FRAMES: Final = 200
FRAMES_KEPT_AT_START: Final = 60
MOST_LINKS: Final = 48
MOST_LINE: Final = 1000
LINKS_AT_START: Final = 10
LINKS_AT_END: Final = 10
MOST_MEMBERS: Final = 20
MOST_MESSAGE: Final = 8000
MOST_LOCALS: Final = 40
MOST_LOCALS_CHARS: Final = 120_000
SOURCE_LINES: Final = 3
MOST_SOURCE_LINE: Final = 300
MOST_CACHED: Final = 4000
TEXT_TIMEOUT_S: Final = 0.2

_OUR_FOLDER: Final = __file__.rpartition("capture.py")[0]

# What the built-in types hold beyond their message.
_DETAILS: Final[tuple[tuple[type[BaseException], tuple[str, ...]], ...]] = (
    (SyntaxError, ("filename", "lineno", "offset", "text")),
    (ImportError, ("name", "path")),
    (OSError, ("errno", "filename", "filename2")),
    (AttributeError, ("name",)),
    (NameError, ("name",)),
    (SystemExit, ("code",)),
)


def _library_folders() -> tuple[str, ...]:
    paths = sysconfig.get_paths()
    folders = {paths[name] for name in ("stdlib", "platstdlib", "purelib", "platlib") if paths.get(name)}
    try:
        folders.add(site.getusersitepackages())
    except Exception:
        pass
    # Where there is no home, there is no folder of the user.
    return tuple(sorted(folder.rstrip("/\\") + "/" for folder in folders if folder))


class Capture:
    """Turns exceptions into the report's form. Caches what does not change about a place in the code, bounded."""

    def __init__(
        self, redactor: Redactor, own: tuple[str, ...] = (), *, values: bool = True, source: bool = True
    ) -> None:
        self._redactor = redactor
        self._own = own
        self._values = values
        self._source_wanted = source
        self._library_folders = _library_folders()
        # By id: hashing a code object looks at all of its content. Each is held, so that no other object gets its id.
        self._places: dict[tuple[int, int], tuple[dict[str, Any], CodeType]] = {}
        self._mute_types: set[type] = set()
        self._calls = CallKeeper(redactor)

    def chain(self, error: BaseException) -> list[dict[str, Any]]:
        """Return the exception chain, from the outermost to the root cause, members of groups included.

        Of a chain that is too long the middle is left out, of a group its last members; the link before the gap has
        the number left out. Members of a group inside a group say which link they belong to.
        """
        chain: list[dict[str, Any]] = []
        self._add(error, None, None, chain, set(), [MOST_LOCALS_CHARS, 1])
        return chain

    def _add(
        self,
        error: BaseException,
        relation: str | None,
        group: int | None,
        chain: list[dict[str, Any]],
        seen: set[int],
        room: list[int],
    ) -> None:
        """Add an exception with its causes, and with its members where it is a group."""
        line: list[tuple[BaseException, str | None]] = []
        following: BaseException | None = error
        while following is not None and id(following) not in seen and len(line) < MOST_LINE:
            seen.add(id(following))
            line.append((following, relation))
            if _text_of_a_remote(following.__cause__) is not None:
                break
            if following.__cause__ is not None:
                following, relation = following.__cause__, "cause"
            elif following.__context__ is not None and not following.__suppress_context__:
                following, relation = following.__context__, "context"
            else:
                following = None
        left_out = len(line) - LINKS_AT_START - LINKS_AT_END
        if left_out > 0:
            del line[LINKS_AT_START:-LINKS_AT_END]
        groups: list[tuple[int, BaseExceptionGroup[BaseException]]] = []
        for place, (link_error, link_relation) in enumerate(line):
            if len(chain) >= MOST_LINKS:
                chain[-1]["links_left_out"] = chain[-1].get("links_left_out", 0) + len(line) - place
                return
            link = self._link(link_error, room)
            if link_relation is not None:
                link["relation"] = link_relation
            if group is not None and link_relation == "member":
                link["member_of"] = group
            if left_out > 0 and place == LINKS_AT_START - 1:
                link["links_left_out"] = left_out
            chain.append(link)
            if isinstance(link_error, BaseExceptionGroup):
                groups.append((len(chain) - 1, link_error))
        self._add_remote(line[-1][0], chain)
        for position, holder in groups:
            members = holder.exceptions
            for count, member in enumerate(members):
                if count >= MOST_MEMBERS or len(chain) >= MOST_LINKS:
                    chain[position]["members_left_out"] = len(members) - count
                    break
                self._add(member, "member", position, chain, seen, room)

    def _add_remote(self, error: BaseException, chain: list[dict[str, Any]]) -> None:
        """Add the frames of an exception that came back from another process: they come as text with it."""
        text = _text_of_a_remote(error.__cause__)
        if text is None or is_finalizing():
            return
        from obitus.core.stacks import find_stacks, report_form

        stacks = find_stacks(text)
        if not stacks:
            return
        remote = report_form(stacks[-1].chain)
        link = chain[-1]
        link["frames"] = [frame | {"own": self._is_own(frame.get("file", ""), "")} for frame in remote[0]["frames"]] + link["frames"]  # fmt: skip
        chain.extend(remote[1 : 1 + max(0, MOST_LINKS - len(chain))])

    def stack(self, frame: FrameType | None) -> list[dict[str, Any]]:
        """Return the frames from the outermost call down to ``frame``, without locals."""
        frames: deque[dict[str, Any]] = deque(maxlen=MOST_FRAMES)
        while frame is not None and len(frames) < MOST_FRAMES:
            if not frame.f_code.co_filename.startswith(_OUR_FOLDER):
                frames.appendleft(dict(self._place(frame, frame.f_lineno)))
            frame = frame.f_back
        return list(frames)

    def place(self, frame: FrameType, line: int) -> dict[str, Any]:
        """Return one frame at a line, without locals."""
        return dict(self._place(frame, line))

    def locals_of(self, frame: FrameType, *, depth: int, chars: int) -> dict[str, str]:
        """Return the local values of a frame as text, values inside of them to a depth, each of so many characters at most."""
        return self._locals(frame, [MOST_LOCALS_CHARS], {}, most=LOCALS, depth=depth, chars=chars)

    def message_of(self, error: BaseException) -> str:
        """Return the exception's message. Its ``__str__`` may be the app's own, and may raise, hang, return
        something huge or no text."""
        kind = type(error)
        written_by: object = kind.__str__
        if written_by in _PLAIN_STR and all(type(part) in _PLAIN_PARTS for part in _args_of(error)):
            return _cut(str(error))
        if kind in self._mute_types:
            return f"[no message: {kind.__name__}.__str__ did not come back earlier]"
        answer: list[str] = []

        def ask() -> None:
            try:
                text = str(error)
                answer.append(_cut(str.__str__(text)))
            except BaseException as raised:
                answer.append(f"[no message: {kind.__name__}.__str__ raised {type(raised).__name__}]")

        if not _is_python(written_by) and all(type(part).__str__ in _PLAIN_PART_STR for part in _args_of(error)):
            ask()
            return answer[0]
        # Code of the app runs here: in a thread of its own, in case it never ends.
        asking = Worker("obitus-text", ask)
        if asking.start():
            asking.join(TEXT_TIMEOUT_S)
        else:
            ask()
        if not answer:
            self._mute_types.add(kind)
            return f"[no message: {kind.__name__}.__str__ did not come back]"
        return answer[0]

    def _link(self, error: BaseException, room: list[int]) -> dict[str, Any]:
        frames, left_out = self._frames(error.__traceback__, room)
        link: dict[str, Any] = {"type": type_name(type(error)), "message": self.message_of(error), "frames": frames}
        if left_out:
            link["frames_left_out"] = left_out
        notes = getattr(error, "__notes__", None)
        if type(notes) is list and notes:
            link["notes"] = [note[:MOST_MESSAGE] for note in notes[:50] if type(note) is str]
        detail = self._detail(error)
        if detail:
            link["detail"] = detail
        if isinstance(error, SyntaxError):
            self._add_syntax_frame(error, frames)
        return link

    def _detail(self, error: BaseException) -> dict[str, Any]:
        for kind, names in _DETAILS:
            if isinstance(error, kind):
                # The type's own descriptors: a property of the app's class of that name is not run.
                found = {name: kind.__dict__[name].__get__(error) for name in names if name in kind.__dict__}
                return {name: plain(value, self._redactor) for name, value in found.items() if value is not None}
        return {}

    def _add_syntax_frame(self, error: SyntaxError, frames: list[dict[str, Any]]) -> None:
        """The place of a syntax error is in the source text, not where that was compiled."""
        file, line = error.filename, error.lineno
        if type(file) is not str or type(line) is not int:
            return
        frame: dict[str, Any] = {
            "file": medium(file),
            "module": short(file.replace("\\", "/").rpartition("/")[2].removesuffix(".py")),
            "function": "<source>",
            "line": max(0, line),
            "own": self._is_own(file, ""),
        }
        if self._source_wanted and type(error.text) is str:
            frame["source"] = {"line": self._source(error.text)}
        frames.append(frame)

    def _frames(self, traceback: TracebackType | None, room: list[int]) -> tuple[list[dict[str, Any]], int]:
        """Return the frames, and how many were left out. ``room`` is how many characters of locals, and how many calls, are still kept."""
        start: list[tuple[FrameType, int]] = []
        rest: deque[tuple[FrameType, int]] = deque(maxlen=MOST_FRAMES - FRAMES_KEPT_AT_START)
        frames_seen = 0
        while traceback is not None:
            frame = traceback.tb_frame
            if not frame.f_code.co_filename.startswith(_OUR_FOLDER):
                frames_seen += 1
                (start if frames_seen <= FRAMES_KEPT_AT_START else rest).append((frame, traceback.tb_lineno))
            traceback = traceback.tb_next
        places = [*start, *rest]
        frames: list[dict[str, Any]] = []
        known: dict[int, str] = {}
        # The innermost frames get their locals first: that is where it failed. Library code shows its locals only
        # where it raised: the rest is bulk, and may hold private values.
        for frame, line in reversed(places):
            place = self._place(frame, line)
            if self._values and room[0] > 0 and (place["own"] or not frames):
                values = self._locals(frame, room, known)
                if values:
                    place = place.copy()
                    place["locals"] = values
            frames.append(place)
        frames.reverse()
        if self._values and room[1] > 0:
            self._add_call(places, frames, room)
        return frames, frames_seen - len(places)

    def _add_call(self, places: list[tuple[FrameType, int]], frames: list[dict[str, Any]], room: list[int]) -> None:
        """Keep the call of the innermost own frame, for the test that makes it again."""
        innermost = next((at for at in range(len(frames) - 1, -1, -1) if frames[at]["own"]), None)
        if innermost is None:
            return
        room[1] -= 1
        own = [place for place, frame in zip(places[: innermost + 1], frames, strict=False) if frame["own"]]
        call = self._calls.call_of(own, time.monotonic())
        if call is not None:
            frames[innermost] = frames[innermost] | {"call": call}

    def _locals(
        self,
        frame: FrameType,
        room: list[int],
        shown_before: dict[int, str],
        *,
        most: int = MOST_LOCALS,
        depth: int = MOST_DEPTH,
        chars: int = MOST_CHARS,
    ) -> dict[str, str]:
        """Return a frame's local values as text. ``shown_before`` holds, by ``id``, what other frames of this stack showed.

        The same request, session or ``self`` is passed from frame to frame: it is shown once.
        """
        values = frame.f_locals
        # A module's locals are its globals: mostly imports and functions, and much of it.
        items = [*values.items()] if values is not frame.f_globals else _of_module(values)
        texts: dict[str, str] = {}
        room_left = room[0]
        redactor = self._redactor
        for name, value in items:
            if name[:2] == "__":
                continue
            if room_left <= 0 or len(texts) >= most:
                break
            kind = type(value)
            if (kind is str and len(value) <= MOST_STRING <= chars) or kind is bool or value is None:
                text = repr(value)
            elif kind is str or kind is int:
                text = show(value, redactor, depth=depth, chars=chars)
            else:
                key = id(value)
                captured = shown_before.get(key)
                text = shown_before[key] = (
                    show(value, redactor, depth=depth, chars=chars) if captured is None else captured
                )
            room_left -= len(text) + len(name)
            texts[name if len(name) <= 300 else short(name)] = text
        room[0] = room_left
        return texts

    def _place(self, frame: FrameType, line: int) -> dict[str, Any]:
        code = frame.f_code
        key = (id(code), line)
        described = self._places.get(key)
        if described is None:
            if len(self._places) >= MOST_CACHED:
                self._places.clear()
            described = self._places[key] = (self._describe(frame, line), code)
        return described[0]

    def _describe(self, frame: FrameType, line: int) -> dict[str, Any]:
        code, file = frame.f_code, frame.f_code.co_filename
        module = _module_name(frame)
        place: dict[str, Any] = {
            "file": medium(file),
            "module": short(module),
            "function": short(code.co_qualname),
            "line": max(0, line or 0),
            "own": self._is_own(file, module),
        }
        if place["own"] and (parameters := parameter_names(code)):
            place["parameters"] = parameters
        if not self._source_wanted:
            return place
        lines = source_of(file, frame.f_globals)
        if not lines and not file.startswith("<"):
            place["source_missing"] = "the file is not there any more, or cannot be read"
        elif lines and changed_since(code, file, lines):
            place["source_missing"] = "the file was changed after the app had loaded it"
            return place
        if 0 < place["line"] <= len(lines):
            place["source"] = {"line": self._source(lines[line - 1])}
            if place["own"]:
                place["source"]["before"] = [
                    self._source(text) for text in lines[max(0, line - 1 - SOURCE_LINES) : line - 1]
                ]
                place["source"]["after"] = [self._source(text) for text in lines[line : line + SOURCE_LINES]]
                if nth := nth_alike(code, lines, line):
                    place["source"]["nth_alike"] = nth
        return place

    def _source(self, text: str) -> str:
        return self._redactor.source(text.rstrip("\n")[:MOST_SOURCE_LINE])

    def _is_own(self, file: str, module: str) -> bool:
        if any(module == name or module.startswith(name + ".") for name in self._own):
            return True
        if file.startswith(("<", *self._library_folders)) or looks_like_library(file):
            return False
        if file.startswith("/") or file[1:2] == ":":
            return True
        # A relative path says nothing: compiled modules have the path of their build. Their module was loaded
        # from somewhere.
        origin = _origin_of(module) or _origin_of(package_of(file))
        if origin:
            return not (origin.startswith(self._library_folders) or looks_like_library(origin))
        return not file.endswith(COMPILED_ENDINGS)


def _args_of(error: BaseException) -> tuple[Any, ...]:
    # The built-in descriptor: a class of the app may have a property of that name.
    found: tuple[Any, ...] = BaseException.__dict__["args"].__get__(error)
    return found


def _text_of_a_remote(cause: BaseException | None) -> str | None:
    """Return the traceback that a pool of processes attaches as text; None where the cause is not such a text."""
    if cause is None or "RemoteTraceback" not in type(cause).__name__:
        return None
    text = getattr(cause, "tb", None)
    return text if type(text) is str else None


def _origin_of(module: str) -> str:
    """Return the file that a module was loaded from; empty where it is not loaded, or from no file."""
    loaded = sys.modules.get(module) if module else None
    if loaded is None:
        return ""
    attributes = getattr(loaded, "__dict__", {})
    origin = getattr(attributes.get("__spec__"), "origin", None) or attributes.get("__file__")
    return origin if type(origin) is str else ""


def _of_module(names: dict[str, Any]) -> list[tuple[str, Any]]:
    return [(n, v) for n, v in list(names.items()) if not callable(v) and type(v).__name__ != "module"]


def type_name(kind: type) -> str:
    """Return the name of an exception type, with its module unless built in."""
    name = f"{kind.__module__}.{kind.__qualname__}"
    return short(name.removeprefix("builtins.").removeprefix("__main__."))


def _cut(text: str) -> str:
    return text if len(text) <= MOST_MESSAGE else text[: MOST_MESSAGE - 1] + "…"


def _is_python(method: Any) -> bool:
    return hasattr(method, "__code__")


_PLAIN_STR: Final[frozenset[object]] = frozenset(
    {BaseException.__str__, KeyError.__str__, OSError.__str__, ImportError.__str__, SyntaxError.__str__}
)
_PLAIN_PARTS: Final = frozenset({str, int, float, bool, type(None)})
_PLAIN_PART_STR: Final[frozenset[object]] = frozenset(
    {kind.__str__ for kind in (object, str, int, float, bytes, BaseException)}
)


def _module_name(frame: FrameType) -> str:
    name = frame.f_globals.get("__name__")
    if name == "__main__":
        spec = frame.f_globals.get("__spec__")
        named = getattr(spec, "name", None)
        if isinstance(named, str):
            return named
        return frame.f_code.co_filename.replace("\\", "/").rpartition("/")[2].removesuffix(".py")
    return name if isinstance(name, str) else ""
