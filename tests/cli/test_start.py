"""A command loads what it needs: at three in the morning nobody waits for what another one needs."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from obitus.cli.commands import MODULES
from obitus.cli.sections import SECTIONS

HEAVY = {"pydantic", "fastapi", "uvicorn", "scipy", "numpy", "sqlalchemy"}


def loaded_by(*words: str) -> set[str]:
    """Run a command; return the packages that it loaded."""
    code = (
        "import sys\nfrom obitus.cli import main\nsys.argv = ['obitus', *sys.argv[1:]]\n"
        "try:\n    main()\nexcept SystemExit:\n    pass\nsys.stderr.write(' '.join({name.partition('.')[0] for name in sys.modules}))"
    )
    done = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True, check=True)
    return set(done.stderr.split())


@pytest.mark.parametrize("words", [["version"], ["--help"], ["issues", "--help"], ["compare", "--help"]], ids=" ".join)
def test_a_command_loads_little(words: list[str]) -> None:
    """Neither the service's libraries nor, where nothing is asked, those that talk to it."""
    loaded = loaded_by(*words)
    assert "typer" in loaded and not loaded & (HEAVY | {"urllib3", "concurrent"})


def test_reading_without_sending_loads_no_network(tmp_path: Path) -> None:
    """A dry run talks to nobody."""
    (tmp_path / "gate.log").write_text("up\n")
    assert not loaded_by("read", "--dry-run", str(tmp_path / "gate.log")) & (HEAVY | {"urllib3"})


def test_one_command_is_called_by_its_name() -> None:
    """Only the command that is called is made ready; its help, and what is said of a wrong name, stay the same."""
    for words, said in (
        (["settle", "--help"], "obitus settle [OPTIONS]"),
        (["release", "--help"], "obitus release [OPTIONS]"),
        (["--help"], "park"),
    ):
        done = subprocess.run([sys.executable, "-m", "obitus", *words], capture_output=True, text=True, check=True)
        assert said in done.stdout
    wrong = subprocess.run([sys.executable, "-m", "obitus", "isues"], capture_output=True, text=True)
    assert wrong.returncode == 2 and "issues" in wrong.stderr


def test_each_command_is_where_the_table_says() -> None:
    """A command that the table forgot could not be called alone; and the list of all says each in a whole sentence."""
    everything = subprocess.run([sys.executable, "-m", "obitus", "--help"], capture_output=True, text=True, check=True)
    begins = everything.stdout.index(f"{next(iter(SECTIONS))}:\n")
    ends = everything.stdout.index("Exit status:")
    lines = [line for line in everything.stdout[begins:ends].splitlines() if line.strip()]
    assert [line for line in lines if line.endswith(":")] == [f"{heading}:" for heading in SECTIONS]
    listed = [line for line in lines if line.startswith("  ")]
    names = [line.split()[0] for line in listed]
    assert sorted(names) == sorted(name for names in MODULES.values() for name in names), "each under one heading, once"
    assert all(line.endswith(".") and not line.endswith("...") for line in listed)
    for module, names in MODULES.items():
        code = f"import obitus.cli.{module}\nfrom obitus.cli.commands import app\nprint(*[one.name or one.callback.__name__ for one in app.registered_commands], *[one.name for one in app.registered_groups])"
        made = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        assert sorted(made.stdout.split()) == sorted(names)
