"""Perl's traces, as ``Carp::confess`` and ``die`` with a stack write them. Source: the documentation of Carp."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.stacks.lines import MOST_FRAMES, Found, cut

_PLACE = re.compile(r"(?P<file>\S[^\n]{0,1000}?) line (?P<line>\d{1,9})\.?(?:, <\w*> (?:line|chunk) \d+\.)?\s*$")
_CALLED = re.compile(
    r"^\s+(?P<name>[\w:]+(?:\{[^}]*\})?|eval (?:\{\.\.\.\}|'.*'))(?:\(.*\))? called at (?P<file>\S[^\n]{0,1000}?) line (?P<line>\d{1,9})\s*$"
)
_TYPE = re.compile(r"^(?P<type>[A-Z]\w*(?:::\w+)+)(?:=\w+\(0x[0-9a-f]+\))?(?:: | )?(?P<rest>.*)$")
_LIBRARY = re.compile(r"/perl5?/|/usr/(?:share|lib)/|/site_perl/|/vendor_perl/")
_EVAL: Final = "eval "


def read(lines: Sequence[str]) -> Found:
    """Return each trace in ``lines``."""
    found: Found = []
    i = 1
    while i < len(lines):
        if " called at " not in lines[i] or _CALLED.match(cut(lines[i])) is None:
            i += 1
            continue
        message, at, rest = cut(lines[i - 1]).rpartition(" at ")
        header = _PLACE.match(rest) if at and message.strip() else None
        if header is None:
            i += 1
            continue
        message = message.strip()
        first = i - 1
        # Each line says who was called and from where: so a name belongs to the place on the line before it.
        places = [(header["file"], int(header["line"]))]
        names: list[str] = []
        while i < len(lines) and len(places) < MOST_FRAMES:
            step = _CALLED.match(cut(lines[i]))
            if step is None:
                break
            names.append(step["name"])
            places.append((step["file"], int(step["line"])))
            i += 1
        frames = []
        for place, (file, line) in enumerate(places):
            name = names[place] if place < len(names) else "(main program)"
            if name.startswith(_EVAL):
                continue
            owner, _, function = name.rpartition("::")
            frames.append(Frame(function, owner, file, line, _LIBRARY.search(file) is None))
        frames.reverse()
        typed = _TYPE.match(message)
        link = ChainLink(typed["type"], typed["rest"], frames) if typed else ChainLink("die", message, frames)
        found.append(([link], first, i))
    return found
