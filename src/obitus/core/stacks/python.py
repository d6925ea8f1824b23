"""Python's stack traces, as ``traceback`` and ``faulthandler`` write them.

Chained exceptions, notes, syntax errors, the caret lines of 3.11 and later, frames that repeat, and exception groups
(each member follows the group) are read. Source: the printing code of CPython 3.11, ``Lib/traceback.py`` and
``Python/traceback.c``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Final

from obitus.core.frames import ChainLink, Frame, looks_like_library, settle_relative
from obitus.core.remembering import remembered
from obitus.core.stacks.lines import BEGINS_ANEW, CUT_OFF, MOST_FRAMES, FoundChains, cut

MOST_MESSAGE_LINES: Final = 200
MOST_REMEMBERED: Final = 20_000
"""Characters of frames that are cached."""

_HEADERS: Final = ("Traceback (most recent call last):", "Exception Group Traceback (most recent call last):")
_BEGINS = re.compile(r'Traceback|Fatal Python error|File "')
_CAUSE: Final = "The above exception was the direct cause of the following exception:"
_CONTEXT: Final = "During handling of the above exception, another exception occurred:"
_FRAME = re.compile(r'File "(?P<file>[^"\n]{1,2000})", line (?P<line>\d{1,9})(?:,? in (?P<function>.{1,500}))?')
_REPEATED = re.compile(r"\[Previous line repeated \d+ more times?\]")
_GUTTER = re.compile(r"^(?:\s*\+[-+]*[-\d\s]*-*\s?)?\s*(?:\|\s)*\|?\s?")
_TYPE_LINE = re.compile(r"(?P<type>[^\W\d][\w.]*+(?:<locals>[\w.]*+)*+)(?:: (?P<message>.*))?$")
_MEMBER = re.compile(r"\s*(?:\|\s)*\+-[+-]+ ?\d+ ?-+")
_FATAL = re.compile(r"Fatal Python error: (?P<message>.+)$")
_THREAD = re.compile(r"(?:Current thread|Thread) 0x[0-9a-f]++.*\(most recent call first\):")


@dataclass
class _Block:
    """One exception as printed: frames, then its type and message."""

    type: str
    message: str
    frames: list[Frame]
    end: int
    members: list[_Block] = field(default_factory=list)
    relation: str = "member"


def read(lines: Sequence[str]) -> FoundChains:
    """Return each stack trace in ``lines``: its chain, from the outermost to the root, its first line and its end."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        line = cut(lines[i])
        if not _BEGINS.search(line):
            i += 1
            continue
        if _header(line) is not None:
            chain, end = _chain(lines, i)
            if chain:
                chains.append((chain, i, end))
            i = max(end, i + 1)
            continue
        fatal = _FATAL.search(line)
        if fatal is not None:
            chain, end = _fatal(lines, i, fatal["message"])
            chains.append((chain, i, end))
            i = end
            continue
        if _is_bare_syntax_error(lines, i):
            block = _block(lines, i, "")
            if block is not None and block.type.endswith("Error"):
                chains.append(([ChainLink(block.type, block.message, block.frames)], i, block.end))
                i = block.end
                continue
        i += 1
    return chains


def _header(line: str) -> str | None:
    """Return the text before a header on its line (a log prefix, a group's gutter), or None."""
    for header in _HEADERS:
        if line.endswith(header) or line.rstrip().endswith(header):
            return line[: line.index(header)]
    return None


def _chain(lines: Sequence[str], first: int) -> tuple[list[ChainLink], int]:
    """Parse one printed chain. It is printed root first; the outermost exception comes last."""
    blocks: list[tuple[_Block, str | None]] = []
    relation: str | None = None
    i = first
    while i < len(lines):
        prefix = _header(cut(lines[i]))
        if prefix is None:
            break
        block = _block(lines, i + 1, prefix)
        if block is None:
            break
        blocks.append((block, relation))
        i = block.end
        after = i
        while after < len(lines) and after < i + 3 and not _bare(lines[after]):
            after += 1
        sentence = _bare(lines[after]) if after < len(lines) else ""
        if sentence.endswith((_CAUSE, _CONTEXT)):
            relation = "cause" if sentence.endswith(_CAUSE) else "context"
            i = after + 1
            while i < len(lines) and i < after + 3 and not _bare(lines[i]):
                i += 1
            continue
        break
    for block, _ in blocks:
        block.frames = settle_relative(block.frames)
        for member in block.members:
            member.frames = settle_relative(member.frames)
    chain: list[ChainLink] = []
    for place in range(len(blocks) - 1, -1, -1):
        block, _ = blocks[place]
        # The line between two blocks gives the relation of the first to the second.
        relation_here = blocks[place + 1][1] if place + 1 < len(blocks) else None
        chain.append(ChainLink(block.type, block.message, block.frames, relation_here))
        chain += [ChainLink(member.type, member.message, member.frames, member.relation) for member in block.members]
    return chain, i


def _bare(line: str) -> str:
    """Return a line without indentation and the gutter of exception groups."""
    return _GUTTER.sub("", cut(line), count=1).strip()


def _block(lines: Sequence[str], start: int, prefix: str) -> _Block | None:
    """Read frames and the line with the type that ends them; None where the text is cut off before it."""
    frames, i = _frames(lines, start, prefix)
    if i >= len(lines):
        # Cut off before the type: the frames still show where it failed.
        return _Block(CUT_OFF, "", frames, i) if frames else None
    ended = _TYPE_LINE.match(_bare(lines[i]))
    if ended is None:
        return _Block(CUT_OFF, "", frames, i) if frames else None
    message = [ended["message"] or ""]
    i += 1
    in_group = "|" in prefix or "+" in prefix
    while i < len(lines) and len(message) < MOST_MESSAGE_LINES and _goes_on(lines, i, in_group=in_group):
        message.append(_bare(lines[i]) if in_group else cut(lines[i].rstrip()))
        i += 1
    block = _Block(ended["type"], "\n".join(message).rstrip("\n"), frames, i)
    if start and cut(lines[start - 1]).rstrip().endswith(_HEADERS[1]):
        _members(lines, block)
    return block


def _frames(lines: Sequence[str], start: int, prefix: str) -> tuple[list[Frame], int]:
    """Parse the frames of one exception, and return the line after them."""
    frames: list[Frame] = []
    i = start
    if "|" not in prefix and "+" not in prefix:
        # A log often has the same frames a thousand times. Indented lines belong to them, or end them.
        while i < len(lines) and lines[i].startswith("  "):
            i += 1
        body = "\n".join(lines[start:i])
        if len(body) <= MOST_REMEMBERED:
            known_frames, read_lines = _known_frames(body)
            if start + read_lines < i:
                return list(known_frames), start + read_lines
            frames = list(known_frames)
        else:
            i = start
    more, i = _read_frames(lines, i, prefix, MOST_FRAMES - len(frames))
    return frames + more, i


@remembered(512, longest=8000)
def _known_frames(body: str) -> tuple[tuple[Frame, ...], int]:
    lines = body.split("\n")
    frames, end = _read_frames(lines, 0, "", MOST_FRAMES)
    return tuple(frames), end


def _read_frames(lines: Sequence[str], start: int, prefix: str, most: int) -> tuple[list[Frame], int]:
    frames: list[Frame] = []
    i = start
    while i < len(lines) and len(frames) < most:
        bare = _bare(lines[i])
        match = _FRAME.search(bare)
        if match is not None and bare.startswith("File "):
            # A syntax error has a place without a function.
            function = (match["function"] or "<source>").strip()
            file = match["file"]
            code = _code_below(lines, i, prefix)
            frames.append(
                Frame(function, _module_of(file), file, int(match["line"]), not looks_like_library(file), code)
            )
            i += 1
            continue
        if not bare or _REPEATED.fullmatch(bare) or _is_detail(lines[i], bare, prefix):
            i += 1
            if not bare and i - start > 2 * MOST_FRAMES:
                break
            continue
        break
    return frames, i


def _code_below(lines: Sequence[str], frame: int, prefix: str) -> str:
    """Return the source line below a frame, or ``""``; Python prints none where it cannot read the file."""
    if frame + 1 >= len(lines):
        return ""
    bare = _bare(lines[frame + 1])
    if not bare or bare.startswith("File ") or not _is_detail(lines[frame + 1], bare, prefix):
        return ""
    return "" if set(bare) <= set("^~ ") else bare[:300]


def _is_detail(line: str, bare: str, prefix: str) -> bool:
    """Whether a line belongs to a frame: its source, or the carets under it. These are indented deeper than a type."""
    inner = cut(line)
    if "|" in prefix or "+" in prefix or inner.lstrip().startswith(("|", "+")):
        inner = inner.lstrip(" |+-0123456789") if not bare else inner.split("|", 1)[-1]
        return inner.startswith("    ") or set(bare) <= set("^~ ")
    return inner.startswith("    ") or (bool(bare) and set(bare) <= set("^~ "))


def _goes_on(lines: Sequence[str], i: int, *, in_group: bool) -> bool:
    """Whether a line still belongs to a message: up to an empty line, a new trace, or what looks like another log line."""
    line = cut(lines[i])
    bare = _bare(line)
    if not bare or _header(line) is not None or _MEMBER.match(line) or _FRAME.search(line) or BEGINS_ANEW.match(line):
        return False
    if in_group:
        return line.lstrip().startswith("|")
    return not re.match(
        r"\S*\d{1,4}[-:/.]\d{2}\b|\[|(?:TRACE|DEBUG|INFO|WARN|WARNING|ERROR|FATAL|CRITICAL)\b|\w+:\s+\S+:", line
    )


def _members(lines: Sequence[str], block: _Block) -> None:
    """Parse the members of an exception group, which follow it, framed by its gutter. A member may have a chain of
    its own, root first; in the result it is followed by its causes, then by its own members.
    """
    i = block.end
    explained: list[_Block] = []
    relation: str | None = None
    while i < len(lines):
        line = cut(lines[i])
        if not line.lstrip().startswith(("|", "+")):
            break
        prefix = _header(line)
        if prefix is None:
            text = _bare(line)
            if text.endswith((_CAUSE, _CONTEXT)):
                relation = "cause" if text.endswith(_CAUSE) else "context"
            i += 1
            continue
        member = _block(lines, i + 1, prefix if "|" in prefix else prefix + "|")
        if member is None:
            break
        if relation is not None and block.members:
            # The block printed before it is its cause, with everything that belongs to that.
            begins = next(k for k in range(len(block.members) - 1, -1, -1) if block.members[k].relation == "member")
            explained = block.members[begins:]
            explained[0] = replace(explained[0], relation=relation)
            del block.members[begins:]
        else:
            explained = []
        # Its own members are moved after it.
        block.members += [replace(member, members=[], relation="member"), *explained, *member.members]
        relation = None
        i = max(member.end, i + 1)
    block.end = max(block.end, i)


def _fatal(lines: Sequence[str], first: int, message: str) -> tuple[list[ChainLink], int]:
    """Parse faulthandler's output: a stack for each thread, the innermost call on top; the current thread's counts."""
    frames: list[Frame] = []
    threads, current = 0, True
    i = first + 1
    while i < len(lines) and i < first + MOST_FRAMES:
        line = cut(lines[i]).strip()
        match = _FRAME.match(line)
        if _THREAD.match(line):
            threads += 1
            current = line.startswith("Current thread") or (threads == 1 and "Current thread" not in "".join(lines[i:]))
        elif match is not None:
            if current:
                file = match["file"]
                frames.append(
                    Frame(
                        (match["function"] or "").strip(),
                        _module_of(file),
                        file,
                        int(match["line"]),
                        not looks_like_library(file),
                    )
                )
        elif (
            line and line != "<no Python frame>" and not line.startswith(("Python runtime state", "Extension modules"))
        ):
            break
        i += 1
    frames.reverse()
    return [ChainLink("FatalPythonError", message.strip(), frames)], i


def _is_bare_syntax_error(lines: Sequence[str], i: int) -> bool:
    """Whether a syntax error of the main program starts here: it is printed without a header."""
    match = _FRAME.fullmatch(cut(lines[i]).strip())
    if match is None or match["function"] is not None:
        return False
    return any(
        re.match(r"\w*(?:Syntax|Indentation|Tab)Error\b", lines[j]) for j in range(i + 1, min(i + 5, len(lines)))
    )


def _module_of(file: str) -> str:
    """Return a module's name computed from its file: which folders are packages is a guess."""
    if file.startswith("<"):
        return ""
    parts = file.replace("\\", "/").split("/")
    name = parts[-1].removesuffix(".py")
    if name == "__init__" and len(parts) > 1:
        name = parts[-2]
    for marker in ("site-packages", "dist-packages"):
        if marker in parts:
            inner = parts[parts.index(marker) + 1 : -1]
            return ".".join([*inner, *([] if parts[-1] == "__init__.py" else [name])])
    return name
