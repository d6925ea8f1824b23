"""Go's panics and fatal errors, as its runtime writes them: the goroutine that failed, innermost call first.

Source: Go's documentation of package ``runtime`` (GOTRACEBACK) and ``runtime/debug.Stack``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.stacks.lines import MOST_FRAMES, FoundChains, cut

_PANIC = re.compile(r"(?:^|[\s\]|:-])(?P<kind>panic|fatal error)(?: serving \S+| recovered)?: (?P<message>.+)$")
_RECOVERED = re.compile(r"panic (?:serving \S+|recovered): ")
_GOROUTINE = re.compile(r"^goroutine \d+ (?:gp=\S+ m=\S+ (?:mp=\S+ )?)?\[(?P<state>[^\]]{1,100})\]:$")
_CALL = re.compile(
    r"^(?:created by )?(?P<name>[\w.~/%-]++(?:(?<=\.)\(\*?+[\w\[\].,… ]++\)\.)?+[\w.\[\]…-]*+)(?:\(.*\))?(?: in goroutine \d++)?$"
)
_PLACE = re.compile(r"^\s++(?P<file>[^\n]{1,1500}?\.(?:go|s)):(?P<line>\d{1,9})(?: \+0x[0-9a-f]+)?")
_BARE_CALL = re.compile(r"^(?P<name>[\w.~/%-]{1,500}+(?:(?<=\.)\(\*?+[\w\[\].,…]++\)\.)?+[\w.\[\]…-]*+)$")
_BARE_PLACE = re.compile(r"^\t(?P<file>[^\s:]{1,1500}\.(?:go|s)):(?P<line>\d{1,9})$")
_CLOSURE = re.compile(r"(?:\.func\d{1,9}|\.gowrap\d{1,9}|\.\d{1,9}|-fm|-range\d{1,9}){1,9}$")
_RECOVERIES: Final = (" [recovered]", " [recovered, repanicked]")
_GENERIC = re.compile(r"\[[^\[\]]*\]")
_LIBRARY: Final = ("/usr/local/go/", "/usr/lib/go", "/go/pkg/mod/", "/goroot/", "/pkg/mod/", "_testmain.go", "/vendor/")


def read(lines: Sequence[str]) -> FoundChains:
    """Return each panic in ``lines``, with the goroutine that is printed first."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        goroutine = _GOROUTINE.match(lines[i].strip()) if lines[i].startswith("goroutine ") else None
        floor = chains[-1][2] if chains else 0
        if goroutine is None:
            bare, end = _bare_frames(lines, i)
            if bare:
                # Errors with a stack have their message above it, and no type.
                above = cut(lines[i - 1]).strip() if i > floor else ""
                chains.append(([ChainLink("error", above, bare)], i - bool(above), end))
            i = max(end, i + 1)
            continue
        header, links = _panics(lines, i, floor)
        frames, end = _frames(lines, i + 1)
        if not links or _RECOVERED.search(cut(lines[header])):
            frames = _up_to_panic(frames)
        if not frames:
            i += 1
            continue
        if not links:
            links = [("goroutine", goroutine["state"])]
            header = i
        # The last panic ended the program; earlier ones were being handled by deferred calls.
        chain = [
            ChainLink(kind, message, frames if place == 0 else [], None if place == 0 else "context")
            for place, (kind, message) in enumerate(reversed(links))
        ]
        while end < len(lines) and (not lines[end].strip() or _GOROUTINE.match(lines[end].strip())):
            # Other goroutines follow; they show where the rest of the program was.
            if lines[end].strip():
                _, end = _frames(lines, end + 1)
            else:
                end += 1
        chains.append((chain, header, end))
        i = end
    return chains


def _bare_frames(lines: Sequence[str], i: int) -> tuple[list[Frame], int]:
    """Parse the frames of an error with a stack: names without arguments, places without offsets."""
    frames: list[Frame] = []
    while i + 1 < len(lines) and len(frames) < MOST_FRAMES and lines[i + 1].startswith("\t"):
        call, place = _BARE_CALL.match(cut(lines[i])), _BARE_PLACE.match(cut(lines[i + 1]))
        if call is None or place is None or not _has_package(call["name"]):
            break
        frames.append(_frame(call["name"], place["file"], int(place["line"])))
        i += 2
    frames.reverse()
    return frames, i


def _up_to_panic(frames: list[Frame]) -> list[Frame]:
    """Leave out frames that ran because of the panic: the deferred call that recovered from it and wrote the trace."""
    places = [at for at, frame in enumerate(frames) if (frame.function, frame.module) == ("panic", "runtime")]
    return frames[: places[-1]] if places and places[-1] else frames


def _panics(lines: Sequence[str], goroutine: int, floor: int) -> tuple[int, list[tuple[str, str]]]:
    links: list[tuple[str, str]] = []
    first = goroutine
    for i in range(goroutine - 1, max(floor, goroutine - 40) - 1, -1):
        line = cut(lines[i])
        match = _PANIC.search(line)
        if match is not None:
            first = i
            message = _without_recoveries(match["message"].strip())
            kind = "runtime error" if message.startswith("runtime error: ") else match["kind"]
            links.append((kind, message.removeprefix("runtime error: ")))
        elif links and not line.strip():
            break
    links.reverse()
    return first, links


def _without_recoveries(message: str) -> str:
    """Return a panic's message without the marks ``[recovered]``, of which each further panic adds one."""
    while message.endswith(_RECOVERIES):
        for mark in _RECOVERIES:
            message = message.removesuffix(mark)
    return message


def _frames(lines: Sequence[str], i: int) -> tuple[list[Frame], int]:
    frames: list[Frame] = []
    while i + 1 < len(lines) and len(frames) < MOST_FRAMES:
        call, place = _CALL.match(cut(lines[i]).strip()), _PLACE.match(cut(lines[i + 1]))
        if lines[i].startswith("panic(") and place is not None:
            frames.append(Frame("panic", "runtime", place["file"], int(place["line"]), own=False))
        elif call is not None and place is not None and _has_package(call["name"]):
            frames.append(_frame(call["name"], place["file"], int(place["line"])))
        else:
            break
        i += 2
    frames.reverse()
    return frames, i


def _has_package(name: str) -> bool:
    """Whether a dot is between the name of a package and a name in it."""
    return 0 < name.find(".") < len(name) - 1


def _frame(name: str, file: str, line: int) -> Frame:
    name = _CLOSURE.sub("", _GENERIC.sub("", name))
    folder, slash, rest = name.rpartition("/")
    package, _, function = rest.partition(".")
    module = f"{folder}{slash}{package}".replace("%2e", ".")
    standard = "." not in module.split("/")[0] and module != "main" and any(part in file for part in _LIBRARY)
    own = not (standard or module == "runtime" or any(part in file for part in _LIBRARY))
    return Frame(function.replace("(*", "").replace(")", "").replace("(", ""), module, file, line, own)
