"""Frames of built code without a source map. A build gives functions other names each time, puts a hash into the
name of the file, and all code on a line or two. What stays the same is the name of the file without its hash, the
names that no build may change (methods, properties) and the engine's message. Within one build, line and column
distinguish two places; engines count columns of one place a few characters apart.
"""

from __future__ import annotations

import re
from typing import Final

from obitus.core.frames import Frame, short_path
from obitus.core.remembering import remembered

ANONYMOUS: Final = "<anonymous>"
NEAR: Final = 40
"""Characters that two engines may name as the column of one place apart."""
_FAR_RIGHT: Final = 250
"""Columns that nobody writes by hand."""
_SCRIPT: Final = re.compile(r"\.(?:m|c)?jsx?(?:[?#].*)?$")
_HASH: Final = re.compile(r"[.-]([\w-]{6,40}?)(?=(?:\.(?:bundle|chunk|min)){0,3}\.\w{1,4}$)")
_CONSONANTS: Final = re.compile(r"[b-df-hj-np-tv-xzB-DF-HJ-NP-TV-XZ]{4}")
_SHORTENED: Final = re.compile(r"^[A-Za-z_$][\w$]?$|^[A-Za-z_$](?:\w?[\d$]|[A-Z]\w)$")
_DECORATED: Final = re.compile(r"^(?:async |new |get |set |static )+| \[as [^\[\]]*\]$|\([^()]*\)$")


@remembered(8192)
def _file(file: str) -> tuple[str, str]:
    """Return the name of a file with its folder, without and with the hash of its build."""
    with_hash = short_path(file.partition("?")[0].partition("#")[0])
    folder, slash, name = with_hash.rpartition("/")
    match = _HASH.search(name)
    if match is not None and _is_random(match[1]):
        name = name[: match.start()] + name[match.end() :]
    return folder + slash + name, with_hash


def _is_random(text: str) -> bool:
    """Whether a part of a name is a hash: hexadecimal, or what no word has within."""
    letters = [sign for sign in text if sign.isalpha()]
    upper = sum(sign.isupper() for sign in text[1:])
    if re.fullmatch(r"[0-9a-f]{6,}", text) and any(sign.isdigit() for sign in text):
        return True
    vowels = sum(sign in "aeiouyAEIOUY" for sign in letters)
    unlike_words = upper >= 2 or (upper == 1 and _CONSONANTS.search(text) is not None) or vowels < 2
    is_mixed = any(sign.isdigit() for sign in text) or "_" in text or (len(text) == 8 and unlike_words)
    return len(text) >= 8 and is_mixed and bool(letters) and not re.fullmatch(r"[\d.v-]+", text)


def is_built(frame: Frame) -> bool:
    """Whether a frame is of a build whose source is not known."""
    if frame.code or not frame.column or not frame.line or not _SCRIPT.search(frame.file):
        return False
    plain, with_hash = _file(frame.file)
    return plain != with_hash or ".min." in with_hash or frame.column > _FAR_RIGHT


def room_of(frame: Frame) -> str:
    """Return the file of a built frame, without the hash of its build."""
    return _file(frame.file)[0]


def build_of(frame: Frame) -> str:
    """Return the file of a built frame by its name in this build."""
    return _file(frame.file)[1]


@remembered(8192)
def name_of(function: str) -> str:
    """Return the part of a function's name that is the same in each build: a method, a property; not a name made by the build."""
    name = _DECORATED.sub("", function)
    if name.endswith(("<", "/")):
        return ANONYMOUS
    name = re.split(r"[./]", name)[-1]
    return ANONYMOUS if not name or _SHORTENED.match(name) or name in ("anonymous", ANONYMOUS) else name
