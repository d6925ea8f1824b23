"""A process that has imported the whole command line, and from which commands are forked: none of them imports it again."""

from __future__ import annotations

import importlib
import os
import pkgutil
import sys
from multiprocessing import forkserver, get_context
from pathlib import Path
from typing import Final

import obitus.cli
from obitus.cli import commands, show
from tests import left_over

# In their own order first: it is the one that the help has.
commands.load()
for _found in pkgutil.iter_modules(obitus.cli.__path__, "obitus.cli."):
    # The demo's part imports the service, which is what takes longest, and of which commands need nothing.
    if _found.name != "obitus.cli.demo_loading":
        importlib.import_module(_found.name)

CONTEXT: Final = get_context("forkserver")
CONTEXT.set_forkserver_preload([__name__])


def run(arguments: tuple[str, ...], environment: dict[str, str], out: Path, errors: Path, timeout_s: float) -> int:
    """Run a command as a process would; what it prints goes to two files. Returns its status; raises ``TimeoutError``."""
    before = set(left_over.children(os.getpid()))
    forkserver.ensure_running()
    command = CONTEXT.Process(target=_become, args=(arguments, environment, out, errors))
    # Both live on for the next command.
    for number in set(left_over.children(os.getpid())) - before:
        left_over.keep(number)
    command.start()
    command.join(timeout_s)
    if command.exitcode is None:
        command.kill()
        command.join()
        raise TimeoutError(" ".join(arguments))
    status = command.exitcode
    command.close()
    return status


def _become(arguments: tuple[str, ...], environment: dict[str, str], out: Path, errors: Path) -> None:
    """Be the command line."""
    for path, descriptor in ((out, 1), (errors, 2)):
        written = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        os.dup2(written, descriptor)
        os.close(written)
    os.environ.clear()
    os.environ.update(environment)
    # It was made when the module was imported, with the width of that moment.
    show.console.width = int(environment["COLUMNS"])
    sys.argv = ["obitus", *arguments]
    obitus.cli.main()
