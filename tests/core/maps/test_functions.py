"""The function around a place has the name that people know it by, whatever way it was written."""

from __future__ import annotations

import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.maps.functions import Functions

# Each place is marked with the name that is expected there.
TYPED = """
const tariff: Record<string, number> = { van: fail("<module>") };
export function quote(vehicle: string): number {
  const surcharge = (length: number) => fail("surcharge");
  return [1].map((n) => fail("<anonymous>"))[0] ?? fail("quote");
}
export const board = async function (é: string, 𝒻: string) { return fail("board"); };
class Gate<T> {
  private open = () => fail("Gate.open");
  static shared = function () { return fail("Gate.shared"); };
  static { fail("Gate.<static>"); }
  constructor(readonly pier: string) { fail("Gate.constructor"); }
  get state(): T { return fail("Gate.state"); }
  async *["berths"]() { yield fail('Gate.["berths"]'); }
  #lock() { fail("Gate.#lock"); }
}
export const Barrier = class { lift() { return fail("Barrier.lift"); } };
const desk = { print() { fail("print"); }, "hand-out": () => fail("hand-out"), later: async () => fail("later") };
let refund; refund = (sum: number) => fail("refund");
module.exports.settle = function () { return fail("settle"); };
export default function () { fail("<anonymous>"); }
abstract class Deck { load = ((() => fail("Deck.load")) satisfies unknown); }
const short = "é𝒻"; const after = () => fail("after");
"""
MARKED = re.compile(r"fail\((?:\"([^\"]+)\"|'([^']+)')\)")


def marked(text: str) -> list[tuple[str, int, int]]:
    """Return what is expected where: lines from 1, columns from 0 in UTF-16 code units."""
    found = []
    for number, line in enumerate(text.split("\n"), 1):
        for place in MARKED.finditer(line):
            found.append((place[1] or place[2], number, len(line[: place.start()].encode("utf-16-le")) // 2))
    return found


@pytest.mark.parametrize("ending", [".ts", ".tsx"])
def test_each_way_to_write_one(ending: str) -> None:
    """Declarations, arrows, methods, fields, accessors, private ones, static blocks, what is assigned, and what has no name."""
    text = TYPED.replace("Gate<T>", "Gate<T,>") if ending == ".tsx" else TYPED
    functions = Functions(text, ending)
    places = marked(text)
    assert [functions.at(line, column) for _, line, column in places] == [name for name, _, _ in places]
    assert len(places) == 21


def test_javascript_with_markup() -> None:
    """A component and its handler; generators."""
    text = (
        "export function Desk({ pier }) {\n"
        '  const press = () => fail("press");\n'
        '  return <button onClick={() => fail("<anonymous>")}>{fail("Desk")}</button>;\n'
        "}\n"
        'function* berths() { yield fail("berths"); }\n'
    )
    functions = Functions(text, ".jsx")
    assert all(functions.at(line, column) == name for name, line, column in marked(text))


@pytest.mark.long
def test_what_is_not_read_or_not_there() -> None:
    """Another language, a place outside, a text that is no code: nothing is made up."""
    assert not Functions("<script>let a = () => 1</script>", ".svelte").is_known
    functions = Functions("function quote() {\n  return 1\n}", ".js")
    assert [functions.at(*place) for place in ((0, 0), (9, 0), (2, 3), (2, 900), (3, 5))] == [
        "<module>", "<module>", "quote", "quote", "<module>",
    ]  # fmt: skip
    deep = Functions("(() => " * 3000 + "1" + ")" * 3000, ".js")
    assert deep.at(1, 7 * 2999 + 8) == "<anonymous>"


@given(st.text(alphabet="function(){}=>;class.\n \"'`/*é", max_size=200), st.integers(-1, 9), st.integers(0, 40), st.sampled_from((".js", ".ts", ".tsx")))  # fmt: skip
def test_no_text_breaks_it(text: str, line: int, column: int, ending: Any) -> None:
    """Half of a program, or none."""
    assert Functions(text, ending).at(line, column)
