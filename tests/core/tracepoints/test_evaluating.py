"""Expressions worked out: as Python would where both give a value, nothing of the app run, and a reason where there is no value."""

from __future__ import annotations

import collections
import datetime as dt
import decimal
import enum
import sys
import types
import uuid
import warnings
from dataclasses import dataclass
from typing import Any, NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.tracepoints import Evaluated, NoValue, compiled, read, written
from obitus.core.tracepoints.evaluating import holds
from obitus.core.tracepoints.expressions import Expression
from obitus.core.tracepoints.reading import MOST_CHARACTERS
from tests.core.tracepoints.test_reading import EXPRESSIONS
from tests.examples import many


def worked(text: str, **seen: Any) -> Any:
    """Return what an expression comes to; raises NoValue."""
    return compiled(read(text))(seen, {"AROUND": 7})


class State(enum.Enum):
    OPEN = "open"


class Level(enum.IntEnum):
    HIGH = 3


class Fare(NamedTuple):
    base: int
    extra: float


@dataclass
class Sailing:
    number: str
    piers: list[str]
    fare: Fare
    line = "skerry"


class Slotted:
    __slots__ = ("berth", "unset")

    def __init__(self) -> None:
        self.berth = 4


SEEN: dict[str, Any] = {
    "passengers": 5, "sailing": Sailing("SK-4", ["eastholm", "merrow"], Fare(40, 2.5)), "x": {"a": 1, 2: "two"}, "_kept": None, "höhe": 2.5,
    "lengths": [1, 2, 3], "notes": "Vehicle Height", "order": {"deck": {"berth": 7}, "state": State.OPEN},
}  # fmt: skip


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("passengers > 4", True),
        ("1 < passengers <= 4", False),
        ('"eastholm" in sailing.piers and passengers', 5),
        ("sailing.piers[-1]", "merrow"),
        ("sailing.fare.base + sailing.fare.extra * 2", 45.0),
        ("sailing.fare[0]", 40),
        ("sailing.line", "skerry"),
        ('order["deck"]["berth"] // 2', 3),
        ('order["state"].value == "open"', True),
        ('order["state"].name', "OPEN"),
        ("x[2]", "two"),
        ('"a" in x and 2 in x and not 3 in x', True),
        ('begins(lower(notes), "vehicle") and ends(notes, "Height")', True),
        ("len(lengths) + len(notes)", 17),
        ("min(lengths[0], 4) + max(1, passengers)", 6),
        ("round(höhe * 1.111, 2)", 2.78),
        ("round(höhe)", 2),
        ("type(sailing)", "Sailing"),
        ("text(passengers) + strip(' x ')", "5x"),
        ("passengers in [1, 5]", True),
        ("_kept is None and _kept == None", True),
        ("not passengers or -passengers", -5),
        ("AROUND", 7),
        ("passengers - -1 - 1", 5),
        ("2 * (3 + 4) % 5", 4),
    ],
)
def test_what_is_asked(text: str, value: object) -> None:
    assert worked(text, **SEEN) == value


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("nobody", "there is no nobody at this line"),
        ("passengers / 0", "it divides by zero"),
        ("passengers % 0", "it divides by zero"),
        ('passengers > "4"', "that cannot be done with a int and a str"),
        ("sailing > 4", "a Sailing is not compared"),
        ("sailing.nobody", "a Sailing has no nobody that can be read"),
        ("lengths[3]", "it has 3 items, none at 3"),
        ('lengths["a"]', "numbered items, not 'a'"),
        ('x["b"]', "there is no 'b' in it"),
        ("passengers[0]", "items of a int cannot be read"),
        ("passengers in passengers", "cannot be looked through"),
        ("len(passengers)", "has no length"),
        ("notes * 9", "texts are only added"),
        ("notes % 9", "texts are only added"),
        ("lower(passengers)", "is no text"),
        ("-notes", "is no number"),
        ("round(2.5, 99)", "is rounded to -20 to 20 digits"),
        ("big * big", "more than 10,000 bits"),
        ("long + long", "is not put together"),
        ("2 in many", "not among the first 10,000"),
        ("slots.unset", "unset is not set"),
        ("slots.berth2", "has no berth2"),
        ("sailing.__init__", ""),
    ],
)
def test_where_there_is_no_value(text: str, why: str) -> None:
    more = {"big": 1 << 9000, "long": "x" * 9000, "many": [1] * 20_000, "slots": Slotted()}
    if not why:
        with pytest.raises(ValueError, match="Python's own"):
            read(text)
        return
    with pytest.raises(NoValue) as raised:
        worked(text, **SEEN, **more)
    assert why in str(raised.value)
    assert Evaluated.out(compiled(read(text)), SEEN | more, {}).why_not == str(raised.value)


def test_values_of_many_kinds() -> None:
    """Numbers, times and texts of Python's own, and what classes of the app make of them."""

    class Name(str):
        def __eq__(self, other: object) -> bool:
            raise AssertionError("the app's code was run")

        __hash__ = str.__hash__

    now = dt.datetime(2026, 11, 28, tzinfo=dt.UTC)
    seen: dict[str, Any] = {
        "fee": decimal.Decimal("2.50"), "level": Level.HIGH, "name": Name("Ida"), "now": now, "day": dt.timedelta(1), "slots": Slotted(),
        "id": uuid.UUID(int=5), "module": types.ModuleType("gate"), "count": collections.Counter("aab"), "error": KeyError("berth"),
    }  # fmt: skip
    seen["module"].limit = 3
    for text in (
        "fee * 2 == 5", "level >= 3", 'name == "Ida"', "now + day > now", "slots.berth == 4", "id == id", "module.limit + 1 == 4",
        'count["a"] == 2', 'error.args[0] == "berth"', 'name in ["Ida"]', 'begins(name, "I")', "now.year == 2026",
    ):  # fmt: skip
        assert worked(text, **seen) is True, text


def test_nobody_passes_for_what_they_are_not() -> None:
    """A class that says it is one of Python's own is not asked for anything either."""
    ran.clear()
    ours = type("_tuplegetter", (), {"__module__": "_collections", "__get__": _noting("get")})
    zone = type("timezone", (dt.tzinfo,), {"__module__": "datetime", "utcoffset": _noting("utcoffset")})
    seen = {"x": type("Kept", (), {"berth": ours()})(), "now": dt.datetime(2026, 11, 28, tzinfo=zone())}
    assert "worked out by the app's own code" in Evaluated.out(compiled(read("x.berth")), seen, {}).why_not
    assert "of a class of the app" in Evaluated.out(compiled(read("now > now")), seen, {}).why_not
    assert not ran


def test_decimals_leave_the_apps_context_alone() -> None:
    context = decimal.getcontext()
    context.clear_flags()
    for text in ("fee / 3", "fee == 2.5", "fee < 2.5", "fee % 7", "2.5 in [fee]"):
        worked(text, fee=decimal.Decimal("2.50000000000000000000000000000000001"))
    assert not any(context.flags.values())


ran: list[str] = []


class Hostile:
    """Everything that a class can do to whoever looks at it; each of it is noted."""

    held = "held"

    def __init__(self) -> None:
        object.__setattr__(self, "x", 1)

    @property
    def passengers(self) -> int:
        ran.append("property")
        return 1

    def __getattribute__(self, name: str) -> Any:
        ran.append(f"getattribute {name}")
        return object.__getattribute__(self, name)

    def __getattr__(self, name: str) -> Any:
        ran.append(f"getattr {name}")
        return self

    @property  # type: ignore[misc]
    def __class__(self) -> Any:
        ran.append("class")
        return int


def _noting(name: str) -> Any:
    def act(self: Any, *_: Any) -> Any:
        ran.append(name)
        return True

    return act


for _name in ("__eq__", "__ne__", "__lt__", "__gt__", "__le__", "__ge__", "__len__", "__bool__", "__contains__", "__getitem__", "__iter__", "__hash__", "__add__", "__radd__", "__mul__", "__rmul__", "__sub__", "__rsub__", "__neg__", "__abs__", "__round__", "__index__", "__int__", "__float__", "__str__", "__repr__", "__format__", "__mod__", "__rmod__", "__truediv__", "__rtruediv__", "__floordiv__", "__rfloordiv__"):  # fmt: skip
    setattr(Hostile, _name, _noting(_name))


def _like(base: type) -> type:
    """Return a class of the app that is made from one of Python's own, and changes all that can be changed."""
    kept = {"__getattribute__", "__class__"}
    made = {name: value for name, value in vars(Hostile).items() if name.startswith("__") and name not in kept | {"__init__", "__dict__", "__weakref__", "__module__", "__doc__", "__firstlineno__", "__static_attributes__"}}  # fmt: skip
    return type(f"Hostile{base.__name__}", (base,), made)


HOSTILE: list[Any] = [
    Hostile(), Hostile, [Hostile()], {"a": Hostile(), "x": 1}, (Hostile(), 1),
    *(_like(base)() for base in (list, dict, set)), _like(int)(4), _like(str)("Ida"), _like(float)(2.5), _like(tuple)((1, 2)),
]  # fmt: skip


@many(500)
@given(EXPRESSIONS, st.data())
def test_nothing_of_the_app_is_run(expression: Expression, data: st.DataObject) -> None:
    """Whatever is asked of whatever, no method, no property and no operator of a class of the app."""
    kinds = st.sampled_from([*HOSTILE, *SEEN.values()])
    seen = {name: data.draw(kinds) for name in SEEN}
    ran.clear()
    found = Evaluated.out(compiled(expression), seen, {})
    assert not ran, (ran[:3], written(expression))
    if not found.why_not:
        Evaluated.out(lambda *_: holds(found.value), {}, {})
    assert not ran, ran[:3]


PLAIN = st.none() | st.booleans() | st.integers(-50, 50) | st.floats(-9, 9) | st.text("abV ", max_size=4) | st.lists(st.integers(-3, 3), max_size=3) | st.dictionaries(st.sampled_from(["a", "b", "x"]), st.integers(-3, 3), max_size=3)  # fmt: skip
AS_PYTHON: dict[str, Any] = {
    "len": len, "abs": abs, "min": min, "max": max, "lower": str.lower, "upper": str.upper, "strip": str.strip, "begins": str.startswith, "ends": str.endswith,
    "text": str, "type": lambda value: type(value).__name__, "round": lambda value, digits=0: round(value, digits) if digits else round(value),
}  # fmt: skip


@many(500)
@given(EXPRESSIONS, st.data())
def test_it_is_what_python_would_say(expression: Expression, data: st.DataObject) -> None:
    """Over plain values: where there is a value it is Python's, with Python's own reading of the text."""
    text = written(expression)
    if len(text) > MOST_CHARACTERS:
        return
    seen = {name: data.draw(PLAIN) for name in SEEN}
    found = Evaluated.out(compiled(expression), seen, {})
    if found.why_not:
        return
    with warnings.catch_warnings():
        # Python warns of what makes little sense, such as `1 is 2`.
        warnings.simplefilter("ignore", SyntaxWarning)
        wanted = eval(text, {"__builtins__": {}} | AS_PYTHON, dict(seen))
    assert type(found.value) is type(wanted) and (found.value == wanted or found.value != found.value), text


def test_it_costs_little_whatever_it_looks_at() -> None:
    """No expression takes long over ten million items, or a text of ten million characters."""
    seen = {"items": list(range(10_000_000)), "words": "a" * 10_000_000, "kept": dict.fromkeys(range(1_000_000))}
    for text in (
        "-1 in items",
        '"b" in words',
        "lower(words)",
        "kept[-1]",
        "words + words",
        "text(words)",
        "len(items) + len(words)",
        "-1 in kept",
    ):
        before = sys.getallocatedblocks()
        Evaluated.out(compiled(read(text)), seen, {})
        assert sys.getallocatedblocks() - before < 1000
