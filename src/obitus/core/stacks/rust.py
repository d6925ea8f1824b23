"""Rust's panics, with the backtrace that RUST_BACKTRACE asks for: innermost frame first, places on lines of their own.

Source: the documentation of ``std::backtrace`` and of the panic hook in ``std::panic``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.stacks.lines import MOST_FRAMES, MOST_MESSAGE_LINES, FoundChains, cut

_NEW = re.compile(
    r"thread '(?P<thread>[^']{0,200})'(?: \(\d{1,9}\))? panicked at (?P<file>[^\n']{1,1000}):(?P<line>\d{1,9}):\d{1,9}:\s*+$"
)
_OLD_BEGINS = re.compile(r"thread '[^'\n]{0,200}' panicked at '")
_OLD = re.compile(r"(?P<message>.*)', (?P<file>[^\n']{1,1000}):(?P<line>\d{1,9}):\d{1,9}\s*+$")
_FRAME = re.compile(r"^\s*+\d{1,5}:\s++(?:0x[0-9a-f]++ - )?(?P<name>\S.*)$")
_PLACE = re.compile(r"^\s+at (?P<file>[^\n]{1,1500}?):(?P<line>\d{1,9})(?::\d+)?\s*$")
_HASH = re.compile(r"::h[0-9a-f]{16}$")
_CLOSURE = re.compile(r"(?:::\{\{closure\}\}|::\{closure[^{}]*\}|::\{\{impl\}\})+")
_LIBRARY: Final = ("std::", "core::", "alloc::", "backtrace::", "rust_begin_unwind", "__rust", "rust_panic", "tokio::", "main::{", "_start", "__libc_start", "test::")  # fmt: skip
_LIBRARY_PLACE: Final = ("/rustc/", "/.cargo/", "/rustlib/", "/cargo/registry/")


def read(lines: Sequence[str]) -> FoundChains:
    """Return each panic in ``lines``."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        line = cut(lines[i])
        at = (_old(line) or _NEW.search(line)) if "panicked at" in line else None
        if at is None:
            i += 1
            continue
        first = i
        i += 1
        message = [at["message"]] if "message" in at.groupdict() else []
        while i < len(lines) and len(message) < MOST_MESSAGE_LINES and not at.groupdict().get("message"):
            if lines[i].startswith(("stack backtrace:", "note: ")) or not lines[i].strip() or "panicked at" in lines[i]:
                break
            message.append(cut(lines[i]))
            i += 1
        frames, i = _backtrace(lines, i)
        if not frames:
            # Without a backtrace there is only the place of the panic.
            frames = [Frame("<panic>", "", at["file"], int(at["line"]), _is_own("", at["file"]))]
        frames = _up_to(frames, at["file"], int(at["line"]))
        chains.append(([ChainLink("panic", "\n".join(message), frames)], first, i))
    return chains


def _old(line: str) -> re.Match[str] | None:
    """Parse a panic in the form before 1.73: message and place on the same line."""
    begins = _OLD_BEGINS.search(line)
    return _OLD.match(line, begins.end()) if begins is not None else None


def _up_to(frames: list[Frame], file: str, line: int) -> list[Frame]:
    """Leave out the runtime's frames below the place of the panic."""
    name = file.rpartition("/")[2]
    for at in range(len(frames) - 1, -1, -1):
        if frames[at].line == line and frames[at].file.rpartition("/")[2] == name:
            return frames[: at + 1]
    return frames


def _backtrace(lines: Sequence[str], i: int) -> tuple[list[Frame], int]:
    start = i
    while start < len(lines) and start < i + 3 and not lines[start].startswith("stack backtrace:"):
        start += 1
    if start >= len(lines) or not lines[start].startswith("stack backtrace:"):
        return [], i
    i = start + 1
    frames: list[Frame] = []
    while i < len(lines) and len(frames) < MOST_FRAMES:
        call = _FRAME.match(cut(lines[i]))
        if call is None:
            break
        i += 1
        place = _PLACE.match(cut(lines[i])) if i < len(lines) else None
        if place is not None:
            i += 1
        file = place["file"] if place else ""
        name = readable(call["name"].rstrip())
        module, _, function = name.rpartition("::")
        frames.append(Frame(function, module, file, int(place["line"]) if place else None, _is_own(name, file)))
    while i < len(lines) and lines[i].startswith("note: "):
        i += 1
    frames.reverse()
    return frames, i


def readable(name: str) -> str:
    """Return a function's path without the compiler's hash, closures and trait wrappings."""
    name = _HASH.sub("", name)
    if name.startswith("<"):
        # The implementation of a trait for a type: the type counts.
        kind, as_trait, rest = name[1:].partition(" as ")
        _, end, function = rest.partition(">::")
        name = f"{kind}::{function}" if as_trait and end else name
    return _CLOSURE.sub("", name)


def _is_own(name: str, file: str) -> bool:
    return not (name.startswith(_LIBRARY) or any(part in file for part in _LIBRARY_PLACE))
