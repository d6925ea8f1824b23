"""The rooms: who may import whom, what `import obitus` costs, and what a room may not touch."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import obitus

SOURCE = Path(obitus.__file__).parent
ROOMS = ("core", "store", "service", "client", "reading", "cli", "demo")
MAY_IMPORT = {
    "core": set(),
    "store": {"core"},
    "service": {"store", "core"},
    "client": {"core"},
    "reading": {"core"},
    # The command line talks HTTP; only `serve` and `demo` start the service, and `check` reads the client's settings.
    "cli": {"core", "client", "reading", "service", "store", "demo"},
    "demo": {"core", "client", "service", "store"},
}
CORE_OF_THE_CLIENT = {
    "bounds",
    "version",
    "entry_points",
    "own_attributes",
    "redaction",
    "frames",
    "ids",
    "clock",
    "severity",
    "stacks",
    "statements",
    "trace_context",
    "tracepoints",
}


def imports_of(path: Path) -> list[str]:
    found = []
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            found += [f"{node.module}.{alias.name}" for alias in node.names]
        elif isinstance(node, ast.Import):
            found += [alias.name for alias in node.names]
    return found


def test_imports_point_one_way() -> None:
    """cli → service → store → core; nothing imports the client but the rooms that are allowed to."""
    wrong = []
    for room in ROOMS:
        for path in (SOURCE / room).rglob("*.py"):
            if "line" in path.relative_to(SOURCE).parts:
                continue
            for name in imports_of(path):
                parts = name.split(".")
                if parts[0] == "obitus" and len(parts) > 1 and parts[1] in ROOMS:
                    if parts[1] != room and parts[1] not in MAY_IMPORT[room]:
                        wrong.append(f"{path}: {name}")
                    if room == "client" and parts[1] == "core" and parts[2] not in CORE_OF_THE_CLIENT:
                        wrong.append(f"{path}: {name}")
                    heavy = room == "cli" and parts[1] in ("service", "store", "demo")
                    if heavy and path.name not in ("serving.py", "demo_loading.py", "keeping.py"):
                        wrong.append(f"{path}: {name}")
    assert wrong == []


def test_core_touches_nothing() -> None:
    """The core knows no files, no network, no clock, no chance and no SQL."""
    banned = {
        "os",
        "io",
        "socket",
        "sqlite3",
        "time",
        "random",
        "pathlib",
        "urllib3",
        "fastapi",
        "pydantic",
        "subprocess",
    }
    for path in (SOURCE / "core").glob("*.py"):
        assert not {name.split(".")[0] for name in imports_of(path)} & banned, path


def loaded_by(module: str, among: str) -> str:
    """Return which of these modules are loaded in a process that imports one."""
    code = f"import {module}, sys; print(*(m for m in '{among}'.split() if m in sys.modules))"
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.strip()


def test_import_obitus_stays_light() -> None:
    """`import obitus` loads neither the web framework nor even the HTTP library."""
    heavy = "urllib3 pydantic fastapi starlette typer rich sqlite3 zstandard http.client"
    assert loaded_by("obitus", heavy) == ""


def test_processes_beside_the_service_stay_light() -> None:
    """There are several of them, and they answer no requests: a web framework would be memory and start-up for nothing."""
    assert loaded_by("obitus.service.intake.worker_tasks", "fastapi uvicorn typer pydantic") == "pydantic"


def test_public_names_are_the_listed_ones() -> None:
    """The client's namespace holds what is listed, and nothing else that is public."""
    assert all(getattr(obitus, name) is not None for name in obitus.__all__) and set(obitus.__all__) <= set(dir(obitus))
    public = {name for name in vars(obitus) if not name.startswith("_")} - {"annotations", "client", "core", "cli", "demo", "reading", "service", "store"}  # fmt: skip
    assert public == set(obitus.__all__)


def test_no_sql_is_put_together_at_run_time() -> None:
    """Statements are constants: no f-string, format or concatenation goes into execute()."""
    for path in (SOURCE / "store").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call) and getattr(node.func, "attr", "") in ("execute", "rows", "row", "one"):
                assert not isinstance(node.args[0], ast.JoinedStr | ast.BinOp), f"{path}:{node.lineno}"
            if isinstance(node, ast.Call) and getattr(node.func, "attr", "") in ("all", "first", "only"):
                assert not isinstance(node.args[1], ast.JoinedStr | ast.BinOp), f"{path}:{node.lineno}"
