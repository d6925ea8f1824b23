"""Every block of the docs holds: commands are parsed by the command line itself, Python is compiled and its calls fit, JSON and TOML are read."""

from __future__ import annotations

import ast
import inspect
import json
import re
import shlex
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import typer
import typer.main

import obitus
from obitus.cli.commands import app, load

ROOT = Path(__file__).parents[1]
# The library keeps its name to itself.
USAGE_ERROR = typer.BadParameter.__mro__[1]
PAGES = sorted(
    [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").glob("*.md"), *(ROOT / "docs/guides").glob("*.md")]
)
# Made from the code, or of records that are no commands.
MADE = {"commands.md", "problems.md", "store.md"}
BLOCK = re.compile(r"^( *)```(\w*)\n(.*?)^\1```", re.MULTILINE | re.DOTALL)
CALL = re.compile(r"(?:^|[|;&(]\s*|\$ )((?:\.venv/bin/)?obitus(?: [^|;&\n]*|$))")
IN_SENTENCES = re.compile(r"`(obitus [^`\n]+)`")
# A line of figures.
FIGURES = re.compile(r" / .* MB/s")


def blocks(language: str) -> Iterator[tuple[str, str]]:
    """Yield the blocks of a language with the page that each stands on."""
    for page in PAGES:
        for found in BLOCK.finditer(page.read_text("utf-8")):
            if found[2] == language and page.name not in MADE:
                text = "\n".join(line.removeprefix(found[1]) for line in found[3].split("\n"))
                yield page.relative_to(ROOT).as_posix(), text


def calls() -> list[tuple[str, str]]:
    """Return every command line that begins with ours, in blocks and in the middle of sentences."""
    found: list[tuple[str, str]] = []
    for page, text in blocks(""):
        for line in text.replace("\\\n", " ").split("\n"):
            said = re.split(r"\s+# ", line)[0].strip()
            found += [(page, call.strip()) for call in CALL.findall(said) if not FIGURES.search(said)]
    for path in PAGES:
        if path.name not in MADE:
            text = path.read_text("utf-8")
            found += [(path.relative_to(ROOT).as_posix(), call) for call in IN_SENTENCES.findall(text)]
    return found


@pytest.fixture(scope="module")
def root() -> Any:
    load()
    return typer.main.get_command(app)


def said_wrong(root: Any, call: str) -> str:
    """Return what is wrong with a command line, '' where it can be understood."""
    # Three points stand for what is left out, as in a key.
    try:
        words = shlex.split(call.replace("…", "x").replace("...", "x"))[1:]
    except ValueError as error:
        return str(error)
    command, path = root, []
    while words and hasattr(command, "commands") and not words[0].startswith("-") and "|" not in words[0]:
        try:
            # As the group itself finds it: some show by default.
            name, found, rest = command.resolve_command(typer.Context(command), words)
        except USAGE_ERROR:
            return f"no command {words[0]!r}"
        command, words = found, rest
        path.append(str(name))
    if hasattr(command, "commands"):
        # A group alone, its help, or several of its commands at once: each is one.
        several = words[0].split("|") if words and not words[0].startswith("-") else []
        return next((f"no command {one!r}" for one in several if one not in command.commands), "")
    options = {
        name
        for parameter in command.get_params(typer.Context(command))
        for name in [*parameter.opts, *parameter.secondary_opts]
    }
    own = words[: words.index("--")] if "--" in words else words
    unknown = [word for word in own if re.match(r"--?[a-z]", word) and word.partition("=")[0] not in options]
    return f"{' '.join(path)} has no {unknown[0]}" if unknown else ""


def test_every_command_line_is_understood(root: Any) -> None:
    """Commands and options that the docs show exist."""
    found = calls()
    assert len(found) > 120
    wrong = [f"{page}: {call}: {said}" for page, call in found if (said := said_wrong(root, call))]
    assert not wrong, "\n".join(wrong)


def test_what_is_wrong_is_found(root: Any) -> None:
    """The test above can fail."""
    assert (
        said_wrong(root, "obitus issuez")
        and said_wrong(root, "obitus issues --colour")
        and said_wrong(root, "obitus keep forget")
        and said_wrong(root, "obitus logs|walks")
    )
    assert not said_wrong(root, "obitus issues --app sailings") and not said_wrong(root, "obitus run -- make --all")


def test_python_is_python() -> None:
    """Each block compiles, and what it calls of ours can be called so."""
    found = list(blocks("python"))
    assert len(found) >= 10
    for page, text in found:
        tree = compile(text, page, "exec", ast.PyCF_ONLY_AST | ast.PyCF_ALLOW_TOP_LEVEL_AWAIT)
        for node in ast.walk(tree):
            if not isinstance(node, ast.Attribute) or not isinstance(node.value, ast.Name) or node.value.id != "obitus":
                continue
            assert hasattr(obitus, node.attr), f"{page}: obitus.{node.attr}"
        for node in ast.walk(tree):
            if (
                isinstance(node, ast.Call)
                and ast.unparse(node.func).startswith("obitus.")
                and ast.unparse(node.func).count(".") == 1
            ):
                thing = getattr(obitus, ast.unparse(node.func).partition(".")[2])
                names = inspect.signature(thing).parameters
                open_ended = any(one.kind is one.VAR_KEYWORD for one in names.values())
                for keyword in node.keywords:
                    assert open_ended or keyword.arg in names, f"{page}: {ast.unparse(node)}"


def test_json_and_toml_are_read() -> None:
    """What is shown as a file of a form is one."""
    for page, text in blocks("json"):
        try:
            json.loads(text)
        except ValueError:
            # Reports stand one in a line.
            assert [json.loads(line) for line in text.strip().split("\n")], page
    for page, text in blocks("toml"):
        assert tomllib.loads(text), page
