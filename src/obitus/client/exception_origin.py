"""Whether an exception in the client's code belongs to the app. Between any two bytecodes of the client a signal
handler of the app may run and raise (for a time limit, for example), and another thread may raise something in this
one. Neither is a fault of the client, and both have to reach the app. So code that catches ``Exception`` on a thread
of the app calls ``is_the_apps`` first, and lets such an exception through.
"""

from __future__ import annotations

import functools
import signal
import sys
from types import FrameType, FunctionType, MethodType
from typing import Any, Final

_OUR_PACKAGE: Final = __file__.rpartition("client")[0]
_STANDARD: Final = sys.stdlib_module_names
_VARARGS: Final = 4  # inspect.CO_VARARGS; that module takes long to load.


def is_the_apps(error: BaseException) -> bool:
    """Whether an exception in the client's code was raised by a signal handler, or by another thread in this one.

    The first is known by the handler's frame in the traceback. The second has no frame of its own: it is of a type that
    neither Python nor the client raises, although nothing but their code ran.
    """
    handlers: frozenset[Any] | None = None
    only_known_code = True
    traceback = error.__traceback__
    while traceback is not None:
        frame = traceback.tb_frame
        code = frame.f_code
        if not code.co_filename.startswith(_OUR_PACKAGE):
            handlers = _handlers() if handlers is None else handlers
            if code in handlers or _takes_a_signal(frame):
                return True
            module = frame.f_globals.get("__name__")
            if type(module) is not str or module.partition(".")[0] not in _STANDARD:
                only_known_code = False
        traceback = traceback.tb_next
    if not only_known_code:
        return False
    made_by = type.__getattribute__(type(error), "__module__")
    return type(made_by) is not str or made_by.partition(".")[0] not in _STANDARD | {"obitus", "urllib3"}


def _handlers() -> frozenset[Any]:
    """Return the code objects of the signal handlers that are set at this moment."""
    handlers = set()
    for number in signal.Signals:
        try:
            handler: Any = signal.getsignal(number)
        except (ValueError, OSError):
            continue
        if callable(handler):
            code = _code_of(handler)
            if code is not None:
                handlers.add(code)
    return frozenset(handlers)


def _code_of(handler: Any) -> Any:
    for _ in range(5):
        if isinstance(handler, functools.partial):
            handler = handler.func
        elif isinstance(handler, MethodType):
            handler = handler.__func__
        elif isinstance(handler, FunctionType):
            return handler.__code__
        else:
            handler = type(handler).__dict__.get("__call__")
    return None


def _takes_a_signal(frame: FrameType) -> bool:
    """Whether a function was called like a signal handler: with a number and a frame. It may have been uninstalled meanwhile."""
    code = frame.f_code
    names = code.co_varnames
    count = code.co_argcount
    if count > 3 or (count < 2 and not code.co_flags & _VARARGS):
        return False
    values = frame.f_locals
    if count >= 2:
        number, interrupted = values.get(names[count - 2]), values.get(names[count - 1])
    else:
        argument = values.get(names[count + code.co_kwonlyargcount])
        if type(argument) is not tuple or len(argument) < 2:
            return False
        number, interrupted = argument[-2], argument[-1]
    return type(interrupted) is FrameType and isinstance(number, int)
