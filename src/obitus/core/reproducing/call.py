"""The failing call as a test, which calls the innermost own function with the captured arguments and does nothing else."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.reproducing.layout import laid_out
from obitus.core.reproducing.values import ExpressionWriter, helper_texts, is_module, is_name
from obitus.core.wording import minute_of

_INDENT: Final = 4
MOST_MESSAGE: Final = 300
_NEVER_CALLED: Final = sys.stdlib_module_names | {"builtins", "pip", "setuptools", "pytest", "_pytest"}
_UNREADABLE: Final = "The kept call cannot be read: its names are not valid."


@dataclass(frozen=True, slots=True)
class About:
    """Facts of the failure, for the comments of the code."""

    issue: int
    app: str
    time: str
    release: str


@dataclass(frozen=True, slots=True)
class Reproduction:
    """Runnable code, and remarks about it."""

    name: str
    """Name of the file."""
    text: str
    missing: tuple[tuple[str, str], ...]
    """Placeholders, each with what is known of the value; without a name, what else is missing."""
    notes: tuple[str, ...]


class NoCall(Exception):
    """There is no call to reproduce; the text says why, and what helps."""


def call_in(content: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any], dict[str, Any]] | None:
    """Return the first captured call of a failure, with its frame and its exception; None where there is none."""
    for link in content.get("exceptions") or ():
        for frame in reversed(link.get("frames") or ()):
            if isinstance(frame.get("call"), dict):
                return frame["call"], frame, link
    return None


def as_test(content: Mapping[str, Any], about: About, *, expects: bool = False) -> Reproduction:
    """Return a pytest file that makes the failing call again; raises NoCall.

    It fails as the app did as long as the fault is there. With ``expects`` it passes as long as the fault is there.
    """
    call_held = call_in(content)
    if call_held is None:
        raise NoCall(
            "No call was kept with this failure. The Python client keeps it with the first failures of each place in the code: "
            "update the client where it is older, or take another failure of the issue."
        )
    call, frame, link = call_held
    if call.get("unreachable"):
        raise NoCall(f"{frame.get('function', 'The function')} cannot be called from a test: {call['unreachable']}.")
    test = _Test(call)
    if expects:
        test.expect(str(link.get("type", "")))
    return test.file(frame, link, about, expects=expects)


class _Test:
    """The statements of a test, and its remarks."""

    def __init__(self, call: dict[str, Any]) -> None:
        values, arguments, module, name = (call.get(part) for part in ("values", "arguments", "module", "name"))
        if not isinstance(values, dict) or not isinstance(arguments, list) or not is_name(name):
            raise NoCall(_UNREADABLE)
        if str(module).partition(".")[0] in _NEVER_CALLED:
            # An invalid report: the innermost own frame is own code.
            raise NoCall(f"{module}.{name} is no code of the app: it is not called.")
        self._call, self._values, self._writer = call, values, ExpressionWriter()
        self._arguments = [
            argument for argument in arguments if isinstance(argument, dict) and is_name(argument.get("name"))
        ]
        self.notes: list[str] = []
        changed = [argument["name"] for argument in self._arguments if argument.get("changed")]
        if changed:
            self.notes.append(
                f"{_listed(changed)} had been given another value inside of the function before it failed; that one is used."
            )
        self._writer.look_through(values)
        holder = str(call.get("holder") or "")
        try:
            self._function = self._writer.imported(f"{module}:{f'{holder}.' if holder else ''}{name}")
        except ValueError:
            raise NoCall(_UNREADABLE) from None
        text = self._said(str(name))
        self._writer.finish()
        self.lines = [*self._writer.before, *self._run(text)]

    def _said(self, name: str) -> str:
        """Return the call as an expression."""
        via = [one for one in self._call.get("via") or () if is_name(one)]
        belongs_to, is_direct = self._call.get("belongs_to"), bool(self._call.get("direct"))
        if belongs_to == "object" and self._arguments:
            first, rest = self._arguments[0], self._arguments[1:]
            if name == "__init__" and is_direct:
                # The constructor makes the object, whose fields at the failure are not needed.
                return f"{self._function.rpartition('.')[0]}({self._given(rest)})"
            receiver = self._receiver(first["name"])
            arguments = self._given(rest)
            if self._call.get("read"):
                return f"{receiver}.{name}" if is_direct else f"{self._function}.fget({receiver})"
            if is_direct and not via:
                return f"{receiver}.{name}({arguments})"
            return f"{'.'.join([self._function, *via])}({', '.join(part for part in (receiver, arguments) if part)})"
        if belongs_to == "class" and self._arguments:
            kind = self._writer.expression(self._values.get(self._arguments[0]["name"]), self._arguments[0]["name"])
            arguments = self._given(self._arguments[1:])
            if not via:
                return f"{kind}.{name}({arguments})"
            reached = ".".join([self._function, "__func__", *via])
            return f"{reached}({', '.join(part for part in (kind, arguments) if part)})"
        return f"{'.'.join([self._function, *via])}({self._given(self._arguments)})"

    def _receiver(self, name: str) -> str:
        """Return the name of a method's object, which a statement of its own makes."""
        expression = self._writer.expression(self._values.get(name), name)
        if is_name(expression):
            return expression
        holder = self._function.split(".")[-2] if "." in self._function else name
        receiver = self._writer.free_name(holder)
        self._writer.before.append(f"{receiver} = {expression}")
        return receiver

    def _given(self, arguments: list[dict[str, Any]]) -> str:
        """Return the arguments of the call."""
        names = {
            argument["kind"]: argument["name"] for argument in arguments if argument.get("kind") in ("star", "stars")
        }
        star = self._values.get(names.get("star", ""))
        more = star["items"] if isinstance(star, dict) and isinstance(star.get("items"), list) else []
        positional: list[str] = []
        named: list[str] = []
        for argument in arguments:
            name, kind = argument["name"], argument.get("kind")
            if kind in ("star", "stars"):
                continue
            expression = self._writer.expression(self._values.get(name), name)
            if kind == "positional" or (kind == "plain" and (more or len(arguments) == 1)):
                positional.append(expression)
            else:
                named.append(f"{name}={expression}")
        positional += [self._writer.expression(inner, names["star"]) for inner in more]
        rest = self._values.get(names.get("stars", ""))
        entries = rest["entries"] if isinstance(rest, dict) and isinstance(rest.get("entries"), dict) else {}
        unnamed = []
        for name, inner in entries.items():
            expression = self._writer.expression(inner, name)
            if is_name(name):
                named.append(f"{name}={expression}")
            else:
                unnamed.append(f"{name!r}: {expression}")
        return ", ".join([*positional, *named, *([f"**{{{', '.join(unnamed)}}}"] if unnamed else [])])

    def _run(self, expression: str) -> list[str]:
        """Return the statements that run a coroutine or generator to its end, where the call is one."""
        how = str(self._call.get("how") or "")
        if how:
            self.notes.append(f"It is {'an' if how.startswith('a') else 'a'} {how}: it is run to its end.")
        if how == "generator":
            return [f"list({expression})"]
        if how == "coroutine":
            return [f"{self._writer.module('asyncio')}.run({expression})"]
        if how == "async generator":
            return [
                f"async def read():\n    return [one async for one in {expression}]",
                f"{self._writer.module('asyncio')}.run(read())",
            ]
        return [expression]

    def expect(self, type_name: str) -> None:
        """Make the test pass as long as an exception of that type is raised."""
        module, _, name = type_name.rpartition(".")
        kind = "Exception"
        if not module and is_name(name):
            kind = name
        elif is_module(module) and is_name(name):
            kind = self._writer.imported(f"{module}:{name}")
        self._writer.module("pytest")
        self.lines[-1] = f"with pytest.raises({kind}):\n    {self.lines[-1]}"

    def file(self, frame: Mapping[str, Any], link: Mapping[str, Any], about: About, *, expects: bool) -> Reproduction:
        """Return the whole file."""
        name = f"test_issue_{about.issue}.py"
        kind, message = str(link.get("type", "")), " ".join(str(link.get("message", "")).split())
        when = f"On {minute_of(about.time)} UTC{f', in release {about.release}' if about.release else ''}"
        place = f"{frame.get('file', '')}:{frame.get('line', '')}"
        passes = (
            "It passes as long as the fault is there, and fails once it is fixed."
            if expects
            else "As long as the fault is there it fails the same way; once it is fixed, it passes."
        )
        head = [
            f"The call behind issue {about.issue} of {about.app}, again.",
            "",
            f"{when}, this was raised at {place}:",
            f"    {kind}: {message}"[:MOST_MESSAGE] if message else f"    {kind}",
            "",
            f"This test makes that call and nothing else. {passes}",
            "The call and its values came with a report: read them first.",
            f"Then run it where the app can be imported: pytest {name}",
            *([""] if self.notes else []),
            *self.notes,
        ]
        missing = tuple((one.name, one.why) for one in self._writer.missing)
        parts = ['"""' + "\n".join(map(_in_docstring, head)) + '\n"""', self._imports()]
        parts.append(
            "\n".join(
                f"# Not kept; put in what fits. Seen: {_printable(why)}\n{value_name} = ..."
                if value_name
                else f"# {_printable(why)}"
                for value_name, why in missing
            )
        )
        parts += [f"\n{helper}" for helper in helper_texts(self._writer.helpers)]
        function = str(self._call["name"]).strip("_")
        body = "\n".join(_statement(line) for line in self.lines)
        parts.append(f"\ndef test_{function or 'call'}_of_issue_{about.issue}():\n{body}\n")
        return Reproduction(name, "\n\n".join(part for part in parts if part), missing, tuple(self.notes))

    def _imports(self) -> str:
        imports = [f"import {module}" for module in sorted(self._writer.whole)]
        for module, names in sorted(self._writer.imports.items()):
            imports.append(f"from {module} import {', '.join(sorted(names))}")
        return "\n".join(imports)


def _statement(line: str) -> str:
    """Return one statement of the test, laid out."""
    margin = " " * _INDENT
    if "\n" in line:
        return "\n".join(margin + part for part in line.split("\n"))
    target, equals, value = line.partition(" = ")
    if equals and is_name(target):
        return f"{margin}{target} = {laid_out(value, _INDENT)}"
    return margin + laid_out(line, _INDENT)


def _in_docstring(line: str) -> str:
    """Return a line escaped for a triple-quoted string."""
    return _printable(line).replace("\\", "\\\\").replace('"', "'")


def _printable(text: str) -> str:
    """Return a text without characters that could end a comment or a line."""
    return "".join(one if one.isprintable() else " " for one in text)


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
