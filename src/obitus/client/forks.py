"""What a fork needs: a child inherits no thread of ours, and gets no lock, file or connection that is half used."""

from __future__ import annotations

import os
import sys
import weakref
from typing import TYPE_CHECKING, Final

from obitus.client.guard import guarded

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

# From 3.13 on Python warns at a fork with threads after these functions ran: threads that begin here would count.
WARNS_LATE: Final = sys.version_info >= (3, 13)

_watching: list[weakref.ref[Reporter]] = []


def watch_forks(reporter: Reporter) -> None:
    """Let a reporter come to rest before each fork, and start afresh in the child."""
    if not hasattr(os, "register_at_fork"):
        return
    if not _watching:
        os.register_at_fork(before=_before, after_in_parent=_in_parent, after_in_child=_in_child)
    _watching[:] = [held for held in _watching if held() is not None] or _watching[:1]
    _watching.append(weakref.ref(reporter))


def _each() -> list[Reporter]:
    return [reporter for held in _watching if (reporter := held()) is not None]


@guarded
def _before() -> None:
    for reporter in _each():
        reporter.before_fork()


@guarded
def _in_parent() -> None:
    for reporter in _each():
        reporter.after_fork(rests=WARNS_LATE)


@guarded
def _in_child() -> None:
    for reporter in _each():
        reporter.begin_in_child()
