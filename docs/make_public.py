"""Makes docs/public.md: everything that a program, a script or another tool may rely on. A test notices when it changes."""

from __future__ import annotations

import inspect
import json
from pathlib import Path
from typing import Any, Final

import obitus
from obitus.client.settings import ENVIRONMENT_NAMES

ROOT: Final = Path(__file__).parents[1]
HEAD: Final = """# What is public

{made}
Programs and scripts may rely on everything on this page. Each change of it is in the changelog; a name that is removed continues to work, with a warning, for two more minor versions.
What begins with an underscore, and every module below `obitus.` that is not named here, may change at any time.

## In Python

"""


def page(made: str) -> str:
    """Return the page."""
    lines = ["```"]
    for name in sorted(obitus.__all__):
        thing = getattr(obitus, name)
        lines.append(f"obitus.{name}{_signature(thing)}")
    lines += ["```", "", "## In the environment", "", *(f"- `{name}`" for name in ENVIRONMENT_NAMES), ""]
    lines += [
        "## On the command line",
        "",
        "Every command and option of [Commands](commands.md), the exit statuses, and what `--json` and `--csv` print.",
        "",
    ]
    lines += [
        "## Over HTTP",
        "",
        "Requests, answers and `slug`s of problems of these routes; an answer may get further fields, and an order further optional ones.",
        "",
        "| route | methods |",
        "| --- | --- |",
    ]
    description: dict[str, Any] = json.loads((ROOT / "src/obitus/service/pages/openapi.json").read_text("utf-8"))
    lines += [
        f"| `{path}` | {', '.join(sorted(method.upper() for method in methods if method in METHODS))} |"
        for path, methods in sorted(description["paths"].items())
    ]
    lines += ["", "The [report format](report-format.md) is version 1 of its own.", ""]
    return HEAD.format(made=made) + "\n".join(lines)


METHODS: Final = frozenset({"get", "put", "post", "delete", "patch", "head", "options"})


def _signature(thing: Any) -> str:
    found = inspect.signature(thing.__init__ if inspect.isclass(thing) else thing)
    shown = []
    for parameter in found.parameters.values():
        if parameter.name == "self":
            continue
        if (
            parameter.kind is parameter.KEYWORD_ONLY
            and "*" not in shown
            and not any(one.startswith("*") for one in shown)
        ):
            shown.append("*")
        mark = {parameter.VAR_POSITIONAL: "*", parameter.VAR_KEYWORD: "**"}.get(parameter.kind, "")
        default = "" if parameter.default is parameter.empty else f"={parameter.default!r}"
        shown.append(f"{mark}{parameter.name}{default}")
    return f"({', '.join(shown)})"
