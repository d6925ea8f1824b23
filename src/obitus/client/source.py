"""The source lines of code that runs, as far as they are those that it was made from."""

from __future__ import annotations

import linecache
import os
import time
import tokenize  # noqa: F401 - from 3.13 on linecache loads it when it is used, which may be at the very end
from types import CodeType
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps

STARTED_S: Final = time.time()
"""When this process started, approximately, as seconds since 1970."""
MOST_LINES: Final = 3000
"""Lines of a function among which equal ones are looked for."""


def source_of(file: str, names: dict[str, Any]) -> list[str]:
    """Return the lines of a file of code, with the global names of its module; none where they are not known."""
    try:
        lines = linecache.getlines(file, names)
    except ImportError as interrupted:
        if is_the_apps(interrupted):
            raise
        # At the very end of the interpreter nothing can be imported, not even what reads files.
        return []
    if file.startswith("<") and lines:
        # For code that was compiled from a text, linecache asks the module's loader, and gets the module's own lines.
        its_file = names.get("__file__")
        if isinstance(its_file, str) and lines == linecache.getlines(its_file):
            return []
    return lines


def changed_since(code: CodeType, file: str, lines: list[str]) -> bool:
    """Whether a file has changed since it was loaded; checked only where it was written after the start."""
    try:
        if os.stat(file).st_mtime <= STARTED_S:  # noqa: PTH116 - on the app's thread, cheaper than a Path
            return False
        waiting = [compile("".join(lines), file, "exec", dont_inherit=True)]
    except OSError as interrupted:
        if is_the_apps(interrupted):
            raise
        # It may be in an archive, which the loader can still read.
        return False
    except (SyntaxError, ValueError) as interrupted:
        if is_the_apps(interrupted):
            raise
        return True
    while waiting:
        container = waiting.pop()
        if container.co_qualname == code.co_qualname and container.co_firstlineno == code.co_firstlineno:
            return container.co_code != code.co_code
        waiting += [inner for inner in container.co_consts if isinstance(inner, CodeType)]
    return True


def nth_alike(code: CodeType, lines: list[str], line: int) -> int:
    """Return which of several equal lines of a function one is, from 1; 0 where no other line of it is equal."""
    first = code.co_firstlineno
    last = max((number for _, _, number in code.co_lines() if number is not None), default=line)
    text = lines[line - 1].strip()
    equal = [at for at in range(first, min(last, first + MOST_LINES, len(lines)) + 1) if lines[at - 1].strip() == text]
    return equal.index(line) + 1 if len(equal) > 1 and line in equal else 0
