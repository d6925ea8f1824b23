"""Nothing of ours ever raises into the app: what stands between a library and its caller is guarded."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import ParamSpec, TypeVar

from obitus.client.log import Sayings

_Given = ParamSpec("_Given")
_Answer = TypeVar("_Answer")

_sayings = Sayings()


def guarded(function: Callable[_Given, _Answer]) -> Callable[_Given, _Answer | None]:
    """Return a function that says in the log, once, what it raised, and returns None then."""

    @functools.wraps(function)
    def inside(*args: _Given.args, **kwargs: _Given.kwargs) -> _Answer | None:
        try:
            return function(*args, **kwargs)
        except Exception as error:
            name = f"{function.__module__}.{function.__qualname__}"
            _sayings.say(name, f"Obitus: {name} broke ({type(error).__name__}: {error}); the app goes on without it.")
            return None

    return inside
