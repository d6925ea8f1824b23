"""Makes the manual pages of the command line (roff, ``man`` macros) from the same commands as docs/commands.md."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, Final

import typer
import typer.main

from obitus.cli.commands import EXIT_STATUSES, app, load
from obitus.cli.sections import SECTIONS
from obitus.client.settings import ENVIRONMENT_NAMES
from obitus.core.version import VERSION

HEAD: Final = '.\\" Made by `make describe`. Do not edit.\n'
FILES: Final = (
    ("obitus-data", "Where obitus serve keeps its records, unless --data says otherwise."),
    ("~/.config/obitus/login.json", "The service's address and a personal token, written by obitus login."),
)


def pages() -> dict[str, Callable[[], str]]:
    """Return what makes each manual page, by its file below docs."""
    load()
    root: Any = typer.main.get_command(app)
    made: dict[str, Callable[[], str]] = {"man/obitus.1": lambda: _overview(root)}
    for name, command in sorted(root.commands.items()):
        made[f"man/obitus-{name}.1"] = lambda name=name, command=command: _page(name, command, root)  # type: ignore[misc]
    return made


def _overview(root: Any) -> str:
    lines = [
        *_head("obitus", root.help or ""), ".SH SYNOPSIS", ".B obitus", "[\\-\\-help] COMMAND [ARGUMENTS]",
        ".SH DESCRIPTION", _text(root.help or ""), "Each command has a page of its own, such as",
        ".BR obitus-issues (1);", ".B obitus COMMAND \\-\\-help", "says the same in short.", ".SH COMMANDS",
    ]  # fmt: skip
    for heading, names in SECTIONS.items():
        lines.append(f".SS {heading}")
        for name in names:
            lines += [".TP", f".BR obitus-{_text(name)} (1)", _text(root.commands[name].get_short_help_str(200))]
    lines += [".SH ENVIRONMENT"]
    for name, meaning in ENVIRONMENT_NAMES.items():
        lines += [".TP", f".B {_text(name)}", _text(meaning)]
    lines += [".SH FILES"]
    for name, meaning in FILES:
        lines += [".TP", f".I {_text(name)}", _text(meaning)]
    return "\n".join([*lines, *_exit(), ""])


def _page(name: str, command: Any, root: Any) -> str:
    full = f"obitus {name}"
    lines = [*_head(f"obitus-{name}", command.get_short_help_str(200)), ".SH SYNOPSIS"]
    inner = list(_commands(command, full))
    for path, one in inner:
        usage = " ".join(one.collect_usage_pieces(typer.Context(one, info_name=path)))
        lines += [f".B {_text(path)}", _text(usage), ".br"]
    lines += [".SH DESCRIPTION", _text(command.help or "")]
    if hasattr(command, "commands"):
        for path, one in inner:
            lines += [f".SS {_text(path)}", _text(one.help or ""), *_parameters(one, path)]
    else:
        found = _parameters(command, full)
        lines += [".SH OPTIONS", *found] if found else []
    others = [other for other in root.commands if other != name]
    near = [other for other in others if other.split("-")[0][:4] == name[:4]][:4]
    lines += [
        *_exit(),
        ".SH SEE ALSO",
        ", ".join(f"\\fBobitus-{_text(one)}\\fR(1)" for one in near) or ".BR obitus (1)",
    ]
    return "\n".join([*lines, ""])


def _commands(command: Any, path: str) -> Iterator[tuple[str, Any]]:
    if not hasattr(command, "commands"):
        yield path, command
        return
    for name, inner in command.commands.items():
        yield from _commands(inner, f"{path} {name}")


def _parameters(command: Any, path: str) -> list[str]:
    context = typer.Context(command, info_name=path)
    lines: list[str] = []
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record is not None:
            lines += [".TP", f".B {_text(record[0].strip())}", _text(record[1])]
    return lines


def _head(name: str, short: str) -> list[str]:
    return [
        f'{HEAD}.TH {name.upper()} 1 "" "Obitus {VERSION}" "Obitus"', ".SH NAME",
        f"{_text(name)} \\- {_text(short.rstrip('.'))}",
    ]  # fmt: skip


def _exit() -> list[str]:
    said = EXIT_STATUSES.removeprefix("Exit status: ").replace("\n", " ").rstrip(".")
    lines = [".SH EXIT STATUS"]
    for one in said.split("; "):
        number, _, meaning = one.partition(" ")
        lines += [".TP", f".B {number}", _text(meaning.capitalize() + ".")]
    return lines


def _text(text: str) -> str:
    """Return text for roff: what begins a request or an escape there stands for itself."""
    made = text.replace("\\", "\\e").replace("-", "\\-")
    lines = [line.strip() for line in made.split("\n")]
    return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line or ".PP" for line in lines).strip()
