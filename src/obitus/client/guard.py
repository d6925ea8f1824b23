"""No exception of the client reaches the app, and none of the app is caught. An exception of the app that is raised
inside the client's code (see ``whose``) is let through.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from types import TracebackType
from typing import Final, ParamSpec, TypeVar

from obitus.client import state
from obitus.client.exception_origin import is_the_apps
from obitus.client.log import warn

_Given = ParamSpec("_Given")
_Answer = TypeVar("_Answer")

_OUR_CLIENT: Final = __file__.rpartition("guard.py")[0]


def guarded(function: Callable[_Given, _Answer]) -> Callable[_Given, _Answer | None]:
    """Return a function that logs its first exception, and returns None instead of raising."""

    @functools.wraps(function)
    def inside(*args: _Given.args, **kwargs: _Given.kwargs) -> _Answer | None:
        try:
            return function(*args, **kwargs)
        except Exception as error:
            if is_the_apps(error):
                raise
            name = f"{function.__module__}.{function.__qualname__}"
            _say(name, f"Obitus: {name} failed ({type(error).__name__}: {error}); the app continues without it.")
            return None

    return inside


def _say(name: str, text: str) -> None:
    if name not in state.said:
        state.said.add(name)
        warn(text)


def without_ours(error: BaseException, traceback: TracebackType | None) -> TracebackType | None:
    """Remove the client's frames from a traceback that is about to be shown; return its first entry then."""
    try:
        while traceback is not None and traceback.tb_next is not None and is_ours(traceback):
            traceback = traceback.tb_next
        entry = traceback
        while entry is not None:
            following = entry.tb_next
            while following is not None and is_ours(following) and following.tb_next is not None:
                following = following.tb_next
            if following is not entry.tb_next:
                entry.tb_next = following
            entry = following
        if error.__traceback__ is not traceback:
            error.__traceback__ = traceback
    except Exception as trouble:
        if is_the_apps(trouble):
            raise
    return traceback


def is_ours(traceback: TracebackType) -> bool:
    """Whether an entry of a traceback is of the client's own code."""
    return traceback.tb_frame.f_code.co_filename.startswith(_OUR_CLIENT)
