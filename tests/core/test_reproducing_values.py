"""Python written from kept values: what comes out equals what went in, and nothing hostile gets into the code."""

from __future__ import annotations

import ast
import datetime as dt
import math
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.client import exact
from obitus.client.exact import Keeper
from obitus.core.redaction import Redactor
from obitus.core.reproducing.call import About, NoCall, as_test
from obitus.core.reproducing.layout import laid_out
from obitus.core.reproducing.values import ExpressionWriter, helper_texts
from tests.examples import many

SCALARS = (
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=30) | st.binary(max_size=20)
    | st.decimals(allow_nan=False) | st.fractions() | st.uuids() | st.dates() | st.times() | st.timedeltas()
    | st.datetimes(timezones=st.none() | st.timezones() | st.just(dt.UTC))
)  # fmt: skip
KEYS = st.none() | st.booleans() | st.integers() | st.text(max_size=8) | st.binary(max_size=8)
VALUES = st.recursive(
    SCALARS,
    lambda inner: (
        st.lists(inner, max_size=4) | st.tuples(inner, inner) | st.dictionaries(KEYS, inner, max_size=4)
        | st.frozensets(KEYS, max_size=4) | st.sets(KEYS, max_size=4)
    ),
    max_leaves=12,
)  # fmt: skip


@pytest.fixture(autouse=True, scope="module")
def _time_enough() -> Iterator[None]:
    """Let no value be left out because the machine was busy with something else."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(exact, "LONGEST_S", 60.0)
        yield


def kept(value: Any) -> Any:
    keeper, found = Keeper(Redactor()), {}
    keeper.keep(value, lambda form: found.update(form=form))
    keeper.finish()
    return found["form"]


def written_again(form: Any) -> tuple[Any, ExpressionWriter]:
    """Return what the code comes to that is written from a kept value."""
    writer = ExpressionWriter()
    writer.look_through(form)
    text = laid_out(writer.expression(form, "value"), 4)
    writer.finish()
    lines = [f"import {module}" for module in writer.whole]
    lines += [f"from {module} import {name}" for module, names in writer.imports.items() for name in names]
    lines += [f"{one.name} = ..." for one in writer.missing if one.name]
    code = "\n".join([*lines, *helper_texts(writer.helpers), *writer.before, f"found = {text}"])
    names: dict[str, Any] = {}
    exec(compile(code, "written", "exec", dont_inherit=True), names)
    return names["found"], writer


def shape(value: Any) -> Any:
    """Return the types in a value; sets have no order that would show in their text."""
    if isinstance(value, dict):
        return {key: shape(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [type(value), *map(shape, value)]
    return type(value) if isinstance(value, set | frozenset) else repr(value)


@many(150)
@given(VALUES)
def test_a_value_comes_back_as_it_was(value: Any) -> None:
    """Plain values, nested: equal, of the same types, and nothing is missing."""
    found, writer = written_again(kept(value))
    assert not writer.missing
    assert found == value and shape(found) == shape(value)


class Tide:
    def __init__(self, height: float) -> None:
        self.height, self.ebbs = height, [1, 2]


class Slotted:
    __slots__ = ("a", "b")


class Chart(dict[str, Any]):
    pass


class Name(str):
    pass


class TideError(ValueError):
    pass


def test_objects_by_their_fields() -> None:
    """No ``__init__`` runs; slots, kinds of built-in types and exceptions are what they were."""
    slotted, chart, name = Slotted(), Chart(low=1), Name("eastholm")
    slotted.a = Tide(2.5)
    chart.keeper, name.known = "Ida", True  # type: ignore[attr-defined]
    error = TideError("too low", 3)
    found, writer = written_again(kept([slotted, chart, name, error]))
    assert not writer.missing
    assert type(found[0]) is Slotted and found[0].a.height == 2.5 and not hasattr(found[0], "b")
    assert type(found[1]) is Chart and found[1] == {"low": 1} and found[1].keeper == "Ida"
    assert type(found[2]) is Name and found[2] == "eastholm" and found[2].known is True
    assert type(found[3]) is TideError and found[3].args == ("too low", 3)


def test_whoever_is_held_twice_is_one() -> None:
    """Objects that hold each other, and a list that two hold, are made once."""
    one, two, shared = Tide(1), Tide(2), [1, 2, 3]
    one.other, two.other, one.ebbs, two.ebbs = two, one, shared, shared  # type: ignore[attr-defined]
    found, writer = written_again(kept({"one": one, "two": two}))
    assert not writer.missing
    assert found["one"].other is found["two"] and found["two"].other is found["one"]
    assert found["one"].ebbs is found["two"].ebbs == shared


def test_what_is_hidden_stays_hidden() -> None:
    """By its name, wherever it stands; the placeholder bears that name."""
    tide = Tide(1)
    tide.password = "eelpot"  # type: ignore[attr-defined]
    form = kept({"api_key": "abc", "inner": {"token": ["x"]}, "tide": tide, "secret": None})
    assert "eelpot" not in str(form) and "abc" not in str(form)
    found, writer = written_again(form)
    assert {one.name for one in writer.missing} >= {"VALUE_API_KEY", "PASSWORD"} and found["secret"] is None


def test_bounds_hold() -> None:
    """A million of anything, a chain without end, text without end: what was kept is small, and the rest is said to be cut."""
    chain: list[Any] = []
    for _ in range(5000):
        chain = [chain]
    for large in (list(range(10**6)), {str(i): "x" * 100 for i in range(10**5)}, "x" * 10**7, chain, [Tide(i) for i in range(10**4)]):  # fmt: skip
        form = kept(large)
        assert len(str(form)) < 400_000
        assert "cut" in str(form)
        written_again(form)


HOSTILE = [
    {"is": "class", "named": "os:system('x')"},
    {"is": "class", "named": "os; import x:y"},
    {"is": "object", "class": "a:b", "number": "__import__('os')", "fields": {"x=1) or f(": 1}},
    {"is": "enum", "class": "a:b", "name": "c.d()"},
    {"is": "int", "of": "1; import os"},
    {"is": "slice", "of": ["f()", "1", "1"]},
    {"is": "bytes", "of": "no base 64 )"},
    {"is": "datetime", "of": ["x", 1, 1], "zone": None},
    {"is": "timezone", "of": "1) or f("},
    {"is": "range", "of": [1, "f()"]},
    {"is": "pattern", "of": "a", "flags": "f()"},
    {"is": "method", "of": 1, "name": "x()"},
    {"is": "lock", "of": "Lock(); f"},
    {"is": "module", "named": "os\nimport x"},
    {"is": "again", "number": 7},
    {"is": "nothing known"},
    {"is": ["a"]},
    {},
    {"is": "partial", "of": {"is": "class", "named": "a b:c"}, "items": None},
]
CALLED = {
    "fare.__wrapped__", "pytest.raises", "made", "filled", "next", "isinstance", "vars", "vars(one).get", "type", "issubclass",
    "base.__new__", "fields.items", "object.__setattr__", "base.update if hasattr(base, 'update') else base.extend", "hasattr",
}  # fmt: skip
"""What may be called: the function, what the file brings along, and nothing that a sender names."""


@pytest.mark.parametrize("form", HOSTILE, ids=str)
def test_hostile_values_become_placeholders(form: Any) -> None:
    """Whatever a sender makes up: the code parses, calls nothing but what is ours, and imports nothing that is no name."""
    call = {"module": "sailings.fares", "name": "fare", "holder": "", "belongs_to": "", "via": ["__wrapped__", "x()"], "arguments": [{"name": "x", "kind": "plain"}], "values": {"x": form}}  # fmt: skip
    frame = {"function": "fare", "file": '"""\nimport os', "line": 3, "own": True, "call": call}
    link = {"type": "os.system('x')", "message": '"""\nimport os\n\\"', "frames": [frame]}
    for expects in (False, True):
        made = as_test({"exceptions": [link]}, About(1, 'a"""b', "2026-11-20T10:00:00Z", "\n1"), expects=expects)
        tree = ast.parse(made.text)
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom | ast.Import):
                modules = [node.module] if isinstance(node, ast.ImportFrom) else [one.name for one in node.names]
                assert set(modules) <= {"sailings.fares", "datetime", "re", "pytest", "threading", "functools", "a"}, (
                    made.text
                )
            if isinstance(node, ast.Call):
                assert ast.unparse(node.func) in CALLED, ast.unparse(node.func)
        assert isinstance(tree.body[0], ast.Expr) and "system('x')" not in ast.unparse(tree.body[1:])


@pytest.mark.parametrize(
    "call",
    [
        {},
        {"unreachable": "x"},
        {
            "module": "os",
            "name": "system",
            "arguments": [{"name": "command", "kind": "plain"}],
            "values": {"command": "true"},
        },
        {"module": "subprocess.x", "name": "run", "arguments": [], "values": {}},
        {"module": "builtins", "name": "exec", "arguments": [], "values": {}},
        {"module": "a;b", "name": "x", "arguments": [], "values": {}},
        {"module": "a", "name": "x y", "arguments": [], "values": {}},
        {"module": "a", "name": "x", "arguments": {}, "values": {}},
        {"module": "a", "name": "x", "arguments": [], "values": []},
    ],
)
def test_what_is_no_call_is_refused_in_words(call: dict[str, Any]) -> None:
    """And so is a failure without one."""
    about = About(1, "sailings", "2026-11-20T10:00:00Z", "")
    content = {"exceptions": [{"type": "KeyError", "frames": [{"function": "fare", "own": True, "call": call}]}]}
    with pytest.raises(NoCall):
        as_test(content, about)
    with pytest.raises(NoCall, match="No call was kept"):
        as_test({"exceptions": [{"type": "KeyError", "frames": []}]}, about)


def test_numbers_that_json_cannot_hold() -> None:
    """Infinite ones, large ones, and those that a sender writes too large."""
    assert written_again(kept([math.inf, -math.inf, 2**80, 1e308]))[0] == [math.inf, -math.inf, 2**80, 1e308]
    assert math.isnan(written_again(kept(math.nan))[0])
    assert written_again(float("1e999"))[0] == math.inf
