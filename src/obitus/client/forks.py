"""Forks: a child inherits no thread of ours, so it must get no lock, file or connection in the middle of its use."""

from __future__ import annotations

import os
import sys
import weakref
from typing import Final, Protocol

from obitus.client import state
from obitus.client.guard import guarded


class Forking(Protocol):
    """Something that pauses before a fork, and begins again in the child."""

    def before_fork(self) -> None: ...

    def after_fork(self, *, rests: bool) -> None: ...

    def begin_in_child(self) -> None: ...


# From 3.13 on Python warns at a fork with threads after these functions ran: threads that begin here would count.
WARNS_LATE: Final = sys.version_info >= (3, 13)


def watch_forks(reporter: Forking) -> None:
    """Pause something before each fork, and begin it again in the child."""
    if not hasattr(os, "register_at_fork"):
        return
    if not state.forking:
        os.register_at_fork(before=_before, after_in_parent=_in_parent, after_in_child=_in_child)
    state.forking[:] = [reference for reference in state.forking if reference() is not None] or state.forking[:1]
    state.forking.append(weakref.ref(reporter))


def _each() -> list[Forking]:
    return [reporter for held in state.forking if (reporter := held()) is not None]


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
