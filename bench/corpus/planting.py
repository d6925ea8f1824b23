"""Planting one fault in a module's source, and moving its code about as a later release does."""

from __future__ import annotations

import ast
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class Fault:
    """One possible fault: the function it is in, its kind, and the statement's number among all that could have one."""

    function: str
    kind: str
    number: int
    line: int
    callee: str = ""
    """The function called on that line, where the fault lies in what is handed to it."""


def _attribute(node: ast.AST) -> bool:
    if isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Load) and not node.attr.startswith("__"):
        node.attr += "_of_pier"
        return True
    return False


def _index(node: ast.AST) -> bool:
    if isinstance(node, ast.Subscript) and isinstance(node.ctx, ast.Load) and isinstance(node.slice, ast.Constant):
        node.slice = ast.Constant(
            node.slice.value + 1000 if isinstance(node.slice.value, int) else f"{node.slice.value!s} "
        )
        return True
    return False


def _name(node: ast.AST) -> bool:
    if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Load) and node.id not in ("self", "cls"):
        node.id += "_then"
        return True
    return False


def _argument(node: ast.AST) -> bool:
    if isinstance(node, ast.Call) and node.args and not isinstance(node.args[-1], ast.Starred):
        node.args.pop()
        return True
    return False


def _nothing(node: ast.AST) -> bool:
    if isinstance(node, ast.Return) and node.value is not None and not isinstance(node.value, ast.Constant):
        node.value = ast.Constant(None)
        return True
    return False


def _turned(node: ast.AST) -> bool:
    if isinstance(node, ast.If):
        node.test = ast.UnaryOp(ast.Not(), node.test)
        return True
    return False


def _operand(node: ast.AST) -> bool:
    if isinstance(node, ast.BinOp) and not isinstance(node.op, ast.BitOr | ast.Mod):
        node.right = ast.Constant(None)
        return True
    return False


def _assigned(node: ast.AST) -> bool:
    if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name | ast.Attribute):
        node.value = ast.Constant(None)
        return True
    return False


def _handed(node: ast.AST) -> bool:
    if not isinstance(node, ast.Call) or not node.args or not isinstance(node.args[0], ast.Name | ast.Attribute):
        return False
    # What was written there stays: two calls that differed in it would otherwise look the same, as no real ones do.
    node.args[0] = ast.Subscript(ast.Tuple([node.args[0], ast.Constant(None)], ast.Load()), ast.Constant(1), ast.Load())
    return True


KINDS: dict[str, Callable[[ast.AST], bool]] = {
    "misspelt attribute": _attribute,
    "wrong index": _index,
    "misspelt name": _name,
    "argument left out": _argument,
    "returns nothing": _nothing,
    "condition turned": _turned,
    "wrong operand": _operand,
    "value left out": _assigned,
}
HANDED: dict[str, Callable[[ast.AST], bool]] = {"nothing handed over": _handed}
"""What a caller does to the function it calls."""


def _functions(tree: ast.AST, outer: str = "") -> Iterator[tuple[str, ast.FunctionDef]]:
    for child in ast.iter_child_nodes(tree):
        if isinstance(child, ast.FunctionDef):
            yield outer + child.name, child
            yield from _functions(child, f"{outer}{child.name}.")
        elif isinstance(child, ast.ClassDef | ast.If | ast.Try):
            yield from _functions(child, f"{outer}{child.name}." if isinstance(child, ast.ClassDef) else outer)


def functions_of(source: str) -> set[str]:
    """Return the names of all functions that a module defines, without what they are in."""
    return {name.rpartition(".")[2] for name, _ in _functions(ast.parse(source))}


def _inner(function: ast.FunctionDef) -> Iterator[ast.AST]:
    for statement in function.body:
        yield from ast.walk(statement)


def possible(source: str, lines: set[int], kinds: dict[str, Callable[[ast.AST], bool]] = KINDS) -> list[Fault]:
    """Return the faults that could be planted on lines that ran."""
    found = []
    for name, function in _functions(ast.parse(source)):
        for kind, change in kinds.items():
            number = 0
            for node in _inner(function):
                if isinstance(node, ast.expr | ast.stmt) and _can(change, node):
                    if node.lineno in lines:
                        found.append(Fault(name, kind, number, node.lineno, _callee(node)))
                    number += 1
    return found


def _callee(node: ast.AST) -> str:
    called = node.func if isinstance(node, ast.Call) else None
    return called.id if isinstance(called, ast.Name) else called.attr if isinstance(called, ast.Attribute) else ""


def _can(change: Callable[[ast.AST], bool], node: ast.AST) -> bool:
    copied = ast.parse(ast.unparse(node)) if isinstance(node, ast.stmt) else None
    if copied is not None:
        try:
            return change(copied.body[0])
        except (SyntaxError, IndexError):
            return False
    shallow = type(node)(**{name: getattr(node, name) for name in node._fields})
    if isinstance(shallow, ast.Call):
        shallow.args = list(shallow.args)
    return change(shallow)


def planted(source: str, fault: Fault) -> str:
    """Return the source with the fault in it, changing the text of that place only."""
    tree = ast.parse(source)
    change = (KINDS | HANDED)[fault.kind]
    function = dict(_functions(tree))[fault.function]
    number = 0
    for node in _inner(function):
        if not isinstance(node, ast.expr | ast.stmt) or not _can(change, node):
            continue
        if number == fault.number:
            return _rewritten(source, node, change)
        number += 1
    raise LookupError(fault)


def _rewritten(source: str, node: ast.expr | ast.stmt, change: Callable[[ast.AST], bool]) -> str:
    lines = source.splitlines(keepends=True)
    target: ast.AST = node
    if isinstance(node, ast.If):
        # Only the condition is rewritten, so that the body keeps its look.
        target = node.test
        text = f"not ({ast.unparse(node.test)})"
    elif isinstance(node, ast.Name):
        text = node.id + "_then"
    else:
        change(node)
        text = ast.unparse(node)
    first, last = target.lineno - 1, target.end_lineno - 1  # type: ignore[attr-defined]
    before = lines[first].encode()[: target.col_offset].decode()  # type: ignore[attr-defined]
    after = lines[last].encode()[target.end_col_offset :].decode()  # type: ignore[attr-defined]
    return "".join([*lines[:first], before + text + after, *lines[last + 1 :]])


def moved(source: str, seed: int) -> str:
    """Return the source as a later release has it: lines put in, functions in another order, one more function."""
    draw = random.Random(seed)
    tree = ast.parse(source)
    lines = source.splitlines(keepends=True)
    if not lines or not lines[-1].endswith("\n"):
        lines.append("\n")
    body = tree.body
    pieces: list[tuple[str, bool]] = []
    for place, node in enumerate(body):
        first = min([node.lineno, *(d.lineno for d in getattr(node, "decorator_list", []))]) - 1
        end = (
            (min([body[place + 1].lineno, *(d.lineno for d in getattr(body[place + 1], "decorator_list", []))]) - 1)
            if place + 1 < len(body)
            else len(lines)
        )
        plain = isinstance(node, ast.FunctionDef) and not node.decorator_list
        text = "".join(lines[first:end])
        pieces.append((_drifted(text, draw) if plain else text, plain))
    head = (
        "".join(lines[: min([body[0].lineno, *(d.lineno for d in getattr(body[0], "decorator_list", []))]) - 1])
        if body
        else source
    )
    # Neighbouring functions change places; everything else stays where others may need it.
    ordered: list[str] = []
    group: list[str] = []
    for text, plain in [*pieces, ("", False)]:
        if plain:
            group.append(text if text.endswith("\n") else text + "\n")
            continue
        if len(group) > 1:
            group.insert(0, f"def _spare_{seed}():\n    return {seed}\n\n\n")
        ordered += list(reversed(group))
        group = []
        ordered.append(text)
    result = head + "".join(ordered)
    compile(result, "moved", "exec", dont_inherit=True)
    return result


def _drifted(text: str, draw: random.Random) -> str:
    """Put remarks above the first statement of a function that begins on a line of its own."""
    node = ast.parse(text).body[0]
    assert isinstance(node, ast.FunctionDef)
    first = node.body[1] if len(node.body) > 1 and isinstance(node.body[0], ast.Expr) else node.body[0]
    if first.lineno == node.lineno:
        return text
    lines = text.splitlines(keepends=True)
    indent = " " * first.col_offset
    lines[first.lineno - 1 : first.lineno - 1] = [
        f"{indent}# looked at in release {draw.randint(2, 9)}\n"
    ] * draw.randint(1, 3)
    return "".join(lines)


def split_module(source: str, name: str) -> tuple[str, str]:
    """Move every other plain function of a module into a second one, and return both; the first re-exports them."""
    tree = ast.parse(source)
    lines = source.splitlines(keepends=True)
    out: list[str] = []
    names: list[str] = []
    kept = list(lines)
    chosen = [n for n in tree.body if isinstance(n, ast.FunctionDef) and not n.decorator_list][::2]
    for node in chosen:
        end = node.end_lineno or node.lineno
        out += [*lines[node.lineno - 1 : end], "\n\n"]
        names.append(node.name)
        kept[node.lineno - 1 : end] = [""] * (end - node.lineno + 1)
    first = next((n.lineno for n in tree.body if isinstance(n, ast.FunctionDef | ast.ClassDef)), 1) - 1
    imported = f"import {name} as _{name}\nfrom {name} import {', '.join(names)}\n\n\n"
    shared = f"\n\nfor _n, _v in list(globals().items()):\n    vars(_{name}).setdefault(_n, _v)\n"
    return "".join([*kept[:first], imported, *kept[first:], shared]), '"""Moved here."""\n\n\n' + "".join(out)
