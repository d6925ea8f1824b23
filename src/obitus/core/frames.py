"""The frame model: one call on the stack, own code or library code. Standard library only: the client uses this too."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Final

_LIBRARY_PLACE = re.compile(
    r"[\\/](?:site-packages|dist-packages|node_modules|bower_components|vendor)[\\/]"
    r"|[\\/]lib[\\/]python\d(?:\.\d+)?[\\/]|[\\/][Pp]ython\d*[\\/][Ll]ib[\\/]|python\d{1,3}\.zip[\\/]"
    r"|^<frozen |^<string>$|^<(?:unknown|template|generated|__\w+__)\b|^<attrs |^<decorator-gen|^node:|^internal/|[\\/]go[\\/]pkg[\\/]mod[\\/]"
)
# The platform: what comes with the language itself. It is library code that is never blamed for a failure.
_PLATFORM_PLACE = re.compile(
    r"[\\/]lib[\\/]python\d(?:\.\d+)?[\\/](?!(?:site|dist)-packages[\\/])|[\\/][Pp]ython\d*[\\/][Ll]ib[\\/](?!site-packages[\\/])"
    r"|python\d{1,3}\.zip[\\/]|^<frozen |^<string>$|^<(?:unknown|template|generated|__\w+__)\b|^<attrs |^<decorator-gen|^node:|^internal/|^native$|^<anonymous>$|^<internal:"
    r"|[\\/]usr[\\/](?:local[\\/])?(?:lib[\\/])?go(?:-\d[\d.]*)?[\\/]src[\\/]|[\\/]rustc[\\/]|[\\/]rustlib[\\/]"
    r"|[\\/]usr[\\/](?:share|lib(?:[\\/]\w+-linux-gnu)?)[\\/]perl|[\\/]lib[\\/]ruby[\\/](?!.{0,200}gems[\\/])"
)
_PLATFORM_MODULE = re.compile(
    r"^(?:dart:|(?:java|javax|jdk|sun|com\.sun|kotlin|scala|System|Internal|Interop|runtime|reflect|std|core|alloc|Carp"
    r"|rust_begin_unwind)(?:[./:]|$)|__rust|_start|__libc)"
)

RELATIONS: Final = ("cause", "context", "member")


_SCRIPT: Final = re.compile(r"\.(?:m|c)?[jt]sx?(?:[?#]|$)|\.(?:svelte|vue)$|^(?:https?|webpack)[-:]")


def is_script(file: str) -> bool:
    """Whether a file is one of JavaScript, or of a language compiled to it."""
    return _SCRIPT.search(file) is not None


@dataclass(frozen=True, slots=True)
class Frame:
    """One call: its place in the code, and whether that is the app's own code."""

    function: str
    module: str = ""
    file: str = ""
    line: int | None = None
    own: bool = True
    code: str = ""
    """The source line, where it is known."""
    column: int | None = None
    """Column in the line, from 1, where the language gives it. It distinguishes places in code on one long line."""
    parameters: tuple[str, ...] = ()
    """The names of the function's parameters in their order; none where they are not known."""
    nth_alike: int = 0
    """Which of several equal lines of its function this is, from 1; 0 where the line is the only one, or that is not known."""

    @property
    def place(self) -> str:
        """The module (or, without one, the file and its folder) and the function, as people name it.

        Not the whole path, which differs between hosts and deploys.
        """
        room = self.module or short_path(self.file)
        return f"{room}.{self.function}" if room else self.function


@dataclass(frozen=True, slots=True)
class ChainLink:
    """One exception of a chain; ``frames`` run from the outermost call to the place of the raise."""

    type: str
    message: str = ""
    frames: Sequence[Frame] = field(default_factory=tuple)
    relation: str | None = None


def short_path(file: str) -> str:
    """Return a file's name with its folder; a folder with a digit in it may be a version, and is left out."""
    folder, slash, name = file.partition("?")[0].replace("\\", "/").rpartition("/")
    last = folder.rpartition("/")[2]
    return f"{last}/{name}" if slash and last and not any(sign.isdigit() for sign in last) else name


def looks_like_library(file: str) -> bool:
    """Guess from a path whether it is library code, for senders that do not say."""
    return _LIBRARY_PLACE.search(file) is not None


def settle_relative(frames: Sequence[Frame]) -> list[Frame]:
    """Return frames, with those of compiled modules marked as library code. These name a relative file, such as
    ``pandas/_libs/hashtable.pyx`` or ``src/lxml/etree.pyx``, which looks local and is not. A frame whose package has
    library frames elsewhere in the stack is library; so is a compiled one whose package has no own frames.
    """
    if not any(frame.own and _is_relative(frame.file) for frame in frames):
        return list(frames)
    libraries = {found[1] for frame in frames if not frame.own and (found := _INSTALLED.search(frame.file)) is not None}
    own_folders = {
        part for frame in frames if frame.own and not _is_relative(frame.file) for part in _parts(frame.file)[:-1]
    }
    settled = []
    for frame in frames:
        if frame.own and _is_relative(frame.file):
            package = package_of(frame.file)
            compiled = frame.file.endswith(COMPILED_ENDINGS)
            if package in libraries or (compiled and package not in own_folders):
                frame = replace(frame, own=False)
        settled.append(frame)
    return settled


def package_of(file: str) -> str:
    """Return the package of a relative path: its first folder, after a ``src``; empty where there is none."""
    parts = [part for part in _parts(file) if part not in (".", "src")]
    return parts[0] if len(parts) > 1 else ""


def _is_relative(file: str) -> bool:
    return bool(file) and not file.startswith(("/", "<", "\\")) and file[1:2] != ":" and "://" not in file


def _parts(file: str) -> list[str]:
    return file.replace("\\", "/").split("/")


COMPILED_ENDINGS: Final = (".pyx", ".pxi", ".pxd", ".pyd", ".so")
_INSTALLED = re.compile(r"[\\/](?:site|dist)-packages[\\/]([^\\/]+)")


@lru_cache(maxsize=8192)
def is_platform(module: str, file: str) -> bool:
    """Whether a library frame belongs to the language itself: its runtime and standard library."""
    if file and _PLATFORM_PLACE.search(file) is not None:
        return True
    return bool(module) and _PLATFORM_MODULE.match(module) is not None
