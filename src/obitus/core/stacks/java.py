"""Java's and Kotlin's stack traces, as ``Throwable.printStackTrace`` writes them.

Causes, suppressed exceptions, the frames behind ``… n more``, modules and class loaders. Source: the
documentation of ``java.lang.Throwable.printStackTrace`` and ``java.lang.StackTraceElement.toString``, Java SE 17.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Final

from obitus.core.frames import ChainLink, Frame
from obitus.core.remembering import remembered
from obitus.core.stacks.lines import (
    CAPITAL,
    CUT_OFF,
    MOST_FRAMES,
    MOST_KNOWN,
    MOST_MESSAGE_LINES,
    FoundChains,
    begins_with_at,
    cut,
    header_above,
    lies_in,
)

_FRAME = re.compile(
    r"^\s*at (?:[\w.@$-]*/){0,2}(?P<owner>[\w.$]+)\.(?P<method>[\w$<>-]+)"
    r"\((?:(?P<file>[\w$ -]+\.\w{1,10})(?::(?P<line>\d{1,7}))?|Native Method|Unknown Source|<generated>)\)"
)
_TYPE: Final = rf"(?P<type>(?:[^\W\dA-Z][\w$]*\.)+{CAPITAL}[\w$]*|{CAPITAL}[\w$]*(?:Exception|Error|Throwable))(?::\s?(?P<message>.*))?$"
_HEADER = re.compile(r"(?:^|[\s\]|:-])" + _TYPE)
_UNCAUGHT = re.compile(r"Exception in thread \"[^\"]{0,300}\" (?P<type>[\w.$]+)(?::\s?(?P<message>.*))?$")
_LAMBDA = re.compile(r"^lambda\$(\w+)\$\d+$")
_INNER = re.compile(r"^(?P<indent>\s*)(?P<how>Caused by|Suppressed): (?:\[CIRCULAR REFERENCE: ?)?" + _TYPE)
_MORE = re.compile(r"^\s*\.\.\. (\d{1,5}) (?:more|common frames omitted)")

# Packages of the platform and of common libraries. Everything else counts as the app's own.
LIBRARIES: Final = (
    "java.", "javax.", "jakarta.", "jdk.", "sun.", "com.sun.", "kotlin.", "kotlinx.", "scala.", "groovy.", "clojure.",
    "org.apache.", "org.springframework.", "org.hibernate.", "org.eclipse.", "org.junit.", "org.slf4j.", "org.jboss.",
    "org.postgresql.", "io.netty.", "io.undertow.", "io.vertx.", "io.micrometer.", "reactor.", "com.google.", "com.fasterxml.",
    "com.zaxxer.", "com.mysql.", "okhttp3.", "ch.qos.logback.",
)  # fmt: skip


@dataclass
class _Link:
    type: str
    message: list[str]
    relation: str | None
    indent: int
    frames: list[Frame] = field(default_factory=list)
    """Innermost first, as printed."""
    around: _Link | None = None
    more: int = 0


def read(lines: Sequence[str]) -> FoundChains:
    """Return each stack trace in ``lines``."""
    chains: FoundChains = []
    i = 0
    while i < len(lines):
        first_frame = i
        if not begins_with_at(lines[i]) or _frame(lines[i]) is None:
            i += 1
            continue
        header, match = header_above(lines, first_frame, chains[-1][2] if chains else 0, _UNCAUGHT, _HEADER)
        links, i = _links(lines, header, match, first_frame)
        chains.append(([_as_link(link) for link in links], header, i))
    return chains


def _links(lines: Sequence[str], header: int, match: re.Match[str] | None, frame: int) -> tuple[list[_Link], int]:
    current = _Link(
        match["type"] if match else CUT_OFF,
        [match["message"] or "", *lines[header + 1 : frame]] if match else [""],
        None,
        -1,
    )
    links = [current]
    frames = 0
    i = frame
    while i < len(lines) and frames < MOST_FRAMES:
        line = cut(lines[i])
        at = _frame(line)
        if at is not None:
            frames += 1
            current.frames.append(at)
            i += 1
            continue
        more = _MORE.match(line)
        if more is not None:
            current.more = int(more[1])
            i += 1
            continue
        inner = _INNER.match(line)
        if inner is None:
            break
        indent = len(inner["indent"].expandtabs(4))
        # The enclosing exception: the latest one that is not indented deeper, or for a suppressed one indented less.
        around = next((link for link in reversed(links) if link.indent < indent or (link.indent == indent and inner["how"] == "Caused by")), links[0])  # fmt: skip
        current = _Link(
            inner["type"],
            [inner["message"] or ""],
            "cause" if inner["how"] == "Caused by" else "context",
            indent,
            around=around,
        )
        links.append(current)
        i += 1
        while i < len(lines) and len(current.message) < MOST_MESSAGE_LINES and not _goes_on(cut(lines[i])):
            if not lines[i].strip():
                break
            current.message.append(cut(lines[i]))
            i += 1
    return links, i


def _goes_on(line: str) -> bool:
    return any(pattern.match(line) is not None for pattern in (_FRAME, _MORE, _INNER))


@remembered(MOST_KNOWN)
def _frame(line: str) -> Frame | None:
    at = _FRAME.match(cut(line))
    if at is None:
        return None
    owner = at["owner"]
    number = int(at["line"]) if at["line"] else None
    own = not lies_in(owner, LIBRARIES) and at["file"] is not None
    return Frame(_LAMBDA.sub(r"\1", at["method"]), owner, at["file"] or "", number, own)


def _as_link(link: _Link) -> ChainLink:
    frames = list(link.frames)
    if link.more and link.around is not None:
        # They are the same calls as the last ones of the enclosing trace.
        frames += link.around.frames[-link.more :]
    frames.reverse()
    return ChainLink(link.type, "\n".join(link.message).strip(), frames, link.relation)
