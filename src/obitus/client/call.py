"""The call that failed: its function, how that is reached, and its arguments, so that it can be called again."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from types import CodeType, FrameType, FunctionType
from typing import Any, Final

from obitus.client.exact import Keeper, find, into, module_name, private_name, unwrapped
from obitus.client.signatures import parameters_of, reassigned
from obitus.core.redaction import Redactor

MOST_PLACES: Final = 500
OF_A_PLACE: Final = 3
"""How often the call is kept for one place in the code; afterwards once a minute."""
AGAIN_AFTER_S: Final = 60.0

# Of code objects (docs.python.org, inspect, "Code Objects Bit Flags").
_GENERATOR, _COROUTINE, _ASYNC_GENERATOR = 0x20, 0x80, 0x200
_HOW: Final = {_GENERATOR: "generator", _COROUTINE: "coroutine", _ASYNC_GENERATOR: "async generator"}


class CallKeeper:
    """Keeps calls: the first ones of each place in the code, and then one a minute."""

    def __init__(self, redactor: Redactor) -> None:
        self._redactor = redactor
        self._kept: dict[tuple[int, int], tuple[int, float]] = {}

    def call_of(self, frames: Sequence[tuple[FrameType, int]], now_s: float) -> dict[str, Any] | None:
        """Return the call of the innermost of some own frames (outermost first, each with its line), None where it is not its turn.

        Where that function was defined inside of another one, the one around it is called: there is no other way to it.
        """
        frame, line = frames[-1]
        place = (id(frame.f_code), line)
        times, last_s = self._kept.get(place, (0, 0.0))
        if times >= OF_A_PLACE and now_s - last_s < AGAIN_AFTER_S:
            return None
        if len(self._kept) >= MOST_PLACES:
            self._kept.clear()
        self._kept[place] = (times + 1, now_s)
        for frame, line in reversed(frames):
            code = frame.f_code
            if "<locals>" not in code.co_qualname and code.co_name[:1] != "<":
                return self._kept_call(frame, line)
            around = code.co_qualname.partition(".<locals>")[0]
            if not any(outer.f_code.co_qualname == around for outer, _ in frames):
                break
        return {"unreachable": _why_not(frames[-1][0].f_code)}

    def _kept_call(self, frame: FrameType, line: int) -> dict[str, Any]:
        code = frame.f_code
        module = frame.f_globals.get("__name__")
        if type(module) is not str or getattr(sys.modules.get(module), "__dict__", None) is not frame.f_globals:
            return {"unreachable": "its module cannot be imported by a name"}
        reached = _reached(module, code)
        if reached is None:
            return {"unreachable": "nothing leads to it by its name: it was replaced, or is made while the app runs"}
        call: dict[str, Any] = {"module": module_name(module), "line": line, **reached}
        how = next((word for flag, word in _HOW.items() if code.co_flags & flag), None)
        if how is not None:
            call["how"] = how
        arguments: list[dict[str, Any]] = [{"name": name, "kind": kind} for name, kind in parameters_of(code)]
        values: dict[str, Any] = {}
        changed = reassigned(code)
        local_values = frame.f_locals
        keeper = Keeper(self._redactor)
        # The object of a method comes last: it may hold the whole app.
        for argument in arguments[1:] + arguments[:1]:
            name = argument["name"]
            if name in changed:
                argument["changed"] = True
            if name not in local_values:
                values[name] = {"is": "unknown", "seen": "it was deleted before"}
                continue
            keeper.keep(local_values[name], into(values, name), name)
        keeper.finish()
        call["arguments"], call["values"] = arguments, values
        if reached["belongs_to"] and arguments and arguments[0]["name"] in local_values:
            call["direct"] = _is_first(type(local_values[arguments[0]["name"]]), reached["name"], code)
        return call


def _reached(module: str, code: CodeType) -> dict[str, Any] | None:
    """Return the class (or none) and the name by which a function is reached, and its kind."""
    qualified = code.co_qualname
    holder, _, name = qualified.rpartition(".")
    reached = find(module, qualified)
    via = unwrapped(reached, code) if reached is not None else None
    if via is None:
        return None
    kind = type(reached)
    belongs_to = ""
    if holder:
        belongs_to = "class" if kind is classmethod else "static" if kind is staticmethod else "object"
        name = private_name(holder.rpartition(".")[2], name)
    # A property is called by reading it.
    is_read = kind is property and via == ["fget"]
    return {"holder": holder, "name": name, "belongs_to": belongs_to, "via": [] if is_read else via, "read": is_read}


def _is_first(kind: type, name: str, code: CodeType) -> bool:
    """Whether looking the name up on an object's class gives that very function."""
    for base in kind.__mro__:
        attributes = type.__getattribute__(base, "__dict__")
        if name in attributes:
            value = attributes[name]
            return (type(value) is FunctionType and value.__code__ is code) or (
                type(value) is property and unwrapped(value, code) is not None
            )
    return False


def _why_not(code: CodeType) -> str:
    if code.co_name == "<module>":
        return "it failed while its module was being imported: no function was called"
    return "it was defined inside of another function, which is not on the stack any more"
