"""Revealed by: whether a new issue is further along the path of a settled one, so that earlier runs could not have got that far."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher

from obitus.core.clock import DAY_MS
from obitus.core.frames import ChainLink, Frame
from obitus.core.grouping.messages import template

WINDOW_MS = 14 * DAY_MS
"""How long after a fix arrived a new issue on the same entry point may have been revealed by it."""

REWRITTEN = 0.6
"""The likeness from which two lines count as one changed line."""


@dataclass(frozen=True, slots=True)
class Story:
    """A failure, with what shows how far its run got: its chain, and the steps before it, as kind and message."""

    chain: Sequence[ChainLink]
    steps: Sequence[tuple[str, str]] = ()
    around: Mapping[tuple[str, int | None], tuple[Sequence[str], Sequence[str]]] = field(default_factory=dict)
    """The lines of source before and after a frame's own, by its file and line, where they are known."""


def lies_behind(earlier: Story, later: Story) -> str | None:
    """Return why a run that met ``earlier`` could not have got to where ``later`` failed, in words; None where nothing shows it.

    Shown by the stacks: both runs are in the same function, and the later failure is at a line further down in it, or in what is
    called from one. Or by the steps: the later run did all that the earlier one did before it failed, and more.
    """
    return _by_stacks(earlier, later) or _by_steps(earlier.steps, later.steps)


def _own(chain: Sequence[ChainLink]) -> list[Frame]:
    """Return the own frames of the exception that reaches furthest in, outermost first."""
    links = [link for link in chain if any(frame.own for frame in link.frames)]
    if not links:
        return []
    return [frame for frame in max(links, key=lambda link: len(link.frames)).frames if frame.own]


def _by_stacks(one_story: Story, other_story: Story) -> str | None:
    earlier, later = _own(one_story.chain), _own(other_story.chain)
    shared: tuple[Frame, Frame] | None = None
    depth = 0
    for frame, later_frame in zip(earlier, later, strict=False):
        if (frame.function, frame.module or frame.file) != (
            later_frame.function,
            later_frame.module or later_frame.file,
        ):
            break
        shared, depth = (frame, later_frame), depth + 1
        if _line_of(frame) != _line_of(later_frame):
            break
    if shared is None:
        return None
    frame, later_frame = shared
    if frame.line is None or later_frame.line is None or _line_of(frame) == _line_of(later_frame):
        return None
    if not _further_down(frame, later_frame, one_story, other_story):
        return None
    deeper = f", in {later[depth].function} called from there" if depth < len(later) else ""
    return f"both runs were in {frame.place}: before, they failed at line {frame.line}; this one got past it to line {later_frame.line}{deeper}"


def _further_down(frame: Frame, other: Frame, one_story: Story, other_story: Story) -> bool:
    """Whether the later line comes after the earlier one, by their source where it is near enough, else by the line numbers."""
    if frame.code and other.code:
        below = one_story.around.get((frame.file, frame.line), ((), ()))[1]
        above = other_story.around.get((other.file, other.line), ((), ()))[0]
        if other.code.strip() in (line.strip() for line in below) or frame.code.strip() in (
            line.strip() for line in above
        ):
            return True
        if SequenceMatcher(None, frame.code.strip(), other.code.strip()).ratio() > REWRITTEN:
            # Rather the same line, rewritten by the fix.
            return False
    return (other.line or 0) > (frame.line or 0)


def _line_of(frame: Frame) -> object:
    """Key of a line: its code where it is known, since lines move between releases."""
    return frame.code.strip() or frame.line


def _by_steps(earlier: Sequence[tuple[str, str]], later: Sequence[tuple[str, str]]) -> str | None:
    before, after = [_step(*step) for step in earlier], [_step(*step) for step in later]
    if not before or len(after) <= len(before) or after[: len(before)] != before:
        return None
    more = later[len(before)]
    return f"this run did the {len(before)} steps that earlier ones ended after, and went on: {more[0]} {more[1][:80]}"


def _step(kind: str, message: str) -> tuple[str, str]:
    return kind, template(message)
