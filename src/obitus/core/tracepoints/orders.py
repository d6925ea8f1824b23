"""A tracepoint as clients get it: which line, when, what to collect, for how long. Read defensively, bounded everywhere.

It goes out with the answers to reports and to ``POST /tracepoints``, and comes back in the hits that name it.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any, Final

from obitus.core.bounds import VALUES_OF_A_HIT, medium, short
from obitus.core.tracepoints.expressions import Expression, names_of, texts_of, written
from obitus.core.tracepoints.messages import Message, read_message
from obitus.core.tracepoints.reading import ExpressionTrouble, read

COLLECTED: Final = ("locals", "stack", "trail", "attributes")
"""What a hit may have in addition to the requested values: the locals of the line's function, the calls that led to
it, the breadcrumbs and the attributes of its run."""
MOST_FILTERS: Final = 50
MOST_DEPTH: Final = 6
USUAL_DEPTH: Final = 3
LEAST_SIZE: Final = 50
MOST_SIZE: Final = 8_000
USUAL_SIZE: Final = 1_000
MOST_HITS: Final = 10_000
USUAL_HITS: Final = 20
MOST_A_SECOND: Final = 100.0
USUAL_A_SECOND: Final = 10.0
LONGEST_S: Final = 24 * 3600.0
MOST_OF_AN_APP: Final = 50
"""Most tracepoints that are set in one app at the same time."""
_PLACE: Final = re.compile(r"[^{}\s]{1,60}")


class OrderTrouble(ValueError):
    """The request is invalid; says why and what to write instead."""


@dataclass(frozen=True, slots=True)
class Value:
    """An expression to be evaluated at the line, with its label."""

    name: str
    expression: Expression

    @property
    def words(self) -> tuple[str, ...]:
        """Return all names in the expression: where a rule hides one of them, the value is hidden."""
        return (self.name, *words_of(self.expression))


@dataclass(frozen=True, slots=True)
class TracepointOrder:
    """One tracepoint, as sent to clients."""

    id: int
    file: str
    """Path, or the end of one, with ``/``."""
    line: int
    seconds: float
    """How long it stays set."""
    condition: Expression | None = None
    values: tuple[Value, ...] = ()
    message: Message | None = None
    collect: frozenset[str] = frozenset()
    depth: int = USUAL_DEPTH
    """How deep values inside values are shown."""
    size: int = USUAL_SIZE
    """Characters of each value at most."""
    hits: int = USUAL_HITS
    """Most hits in one process; the service ends it for all once all together have that many."""
    per_second: float = USUAL_A_SECOND
    person: str = ""
    release: str = ""
    """Only this one; '' for any."""
    hash: str = ""
    """SHA-256 of the file that it was set with (see ``hash_of``); '' where that was not available."""
    code_hash: str = ""
    """That of the line of code (see ``hash_of_line``); '' where it was not available."""
    hosts: tuple[str, ...] = ()
    """Only these hosts, `*` for any characters; none for all."""
    instances: tuple[str, ...] = ()
    """Process numbers or beginnings of instance ids; none for all."""

    def is_meant(self, host: str, process: int, instance: str) -> bool:
        """Whether it is for an instance."""
        if self.hosts and not any(fnmatchcase(host, wanted) for wanted in self.hosts):
            return False
        return not self.instances or any(
            wanted == str(process) or (wanted and instance.startswith(wanted)) for wanted in self.instances
        )

    @property
    def place(self) -> str:
        """Its place: ``fares.py:24``."""
        return f"{self.file}:{self.line}"


def read_order(sent: Mapping[str, Any]) -> TracepointOrder:
    """Parse a tracepoint from the service; raises OrderTrouble where it is invalid, or has a part that this version does not know."""
    number, file, line, seconds = sent.get("id"), sent.get("file"), sent.get("line"), sent.get("seconds")
    if (
        type(number) is not int
        or type(file) is not str
        or type(line) is not int
        or not isinstance(seconds, int | float)
    ):
        raise OrderTrouble("a tracepoint has an id, a file, a line and a time to live")
    collect = frozenset(map(str, _list(sent, "collect")))
    unknown = sorted(collect - set(COLLECTED))
    if unknown:
        raise OrderTrouble(f"this client does not know how to collect {unknown[0]!r}; bring it up to date")
    message = str(sent.get("message") or "")
    return TracepointOrder(
        id=number,
        file=medium(file).replace("\\", "/"),
        line=line,
        seconds=min(LONGEST_S, float(seconds)),
        condition=read_condition(str(sent.get("condition") or "")),
        values=tuple(read_value(str(value)) for value in _list(sent, "values")[:VALUES_OF_A_HIT]),
        message=_read(read_message, message, "the message") if message else None,
        collect=collect,
        depth=int(_number(sent, "depth", 1, MOST_DEPTH, USUAL_DEPTH)),
        size=int(_number(sent, "size", LEAST_SIZE, MOST_SIZE, USUAL_SIZE)),
        hits=int(_number(sent, "hits", 1, MOST_HITS, USUAL_HITS)),
        per_second=_number(sent, "per_second", 0.01, MOST_A_SECOND, USUAL_A_SECOND),
        person=short(str(sent.get("person") or "")),
        release=short(str(sent.get("release") or "")),
        hash=short(str(sent.get("hash") or "")),
        code_hash=short(str(sent.get("code_hash") or "")),
        hosts=tuple(short(str(host)) for host in _list(sent, "hosts")[:MOST_FILTERS]),
        instances=tuple(short(str(instance)) for instance in _list(sent, "instances")[:MOST_FILTERS]),
    )


def read_condition(text: str) -> Expression | None:
    """Parse a text as a condition, None for an empty one; raises OrderTrouble."""
    return _read(read, text, "the condition") if text.strip() else None


def read_value(text: str) -> Value:
    """Parse ``name: expression``, or an expression alone; raises OrderTrouble."""
    named = re.match(r"\s*([^\W\d][\w.-]{0,59})\s*:(?!:)\s*(.*)", text, re.DOTALL)
    name, expression = (named[1], named[2]) if named is not None else ("", text)
    expression_read = _read(read, expression, f"the value {text.strip()!r}")
    return Value(name or short(written(expression_read)), expression_read)


def words_of(expression: Expression) -> tuple[str, ...]:
    """Return the names, attributes and keys in an expression."""
    return (*names_of(expression), *texts_of(expression))


def template_of(message: Message) -> str:
    """Return the template of a message, so that all its hits are found together."""
    parts = [_doubled(message.texts[0])]
    for expression, text in zip(message.expressions, message.texts[1:], strict=True):
        named = _PLACE.fullmatch("".join(written(expression).split()))
        parts.append("{" + (named[0] if named is not None else "value") + "}" + _doubled(text))
    return "".join(parts)


def _doubled(text: str) -> str:
    return text.replace("%", "%%").replace("{", "{{").replace("}", "}}")


def _read(how: Any, text: str, what: str) -> Any:
    try:
        return how(text)
    except ExpressionTrouble as trouble:
        raise OrderTrouble(f"{what} cannot be read. {trouble}") from None


def _list(sent: Mapping[str, Any], name: str) -> list[Any]:
    values = sent.get(name)
    return values if isinstance(values, list) else []


def _number(sent: Mapping[str, Any], name: str, least: float, most: float, usual: float) -> float:
    number = sent.get(name)
    if isinstance(number, bool) or not isinstance(number, int | float):
        return usual
    return min(most, max(least, number))
