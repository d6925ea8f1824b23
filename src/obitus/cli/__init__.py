"""The command line. It talks to the service through its HTTP API, like any other client."""

from __future__ import annotations

import importlib.util
import sys
from io import TextIOWrapper


def main() -> None:
    """Run the ``obitus`` command. Expected errors print one line and set the exit status; others show a traceback."""
    # The client's wheel has only this module of the command line.
    if not all(map(importlib.util.find_spec, ("typer", "obitus.cli.commands"))):
        if sys.argv[1:2] == ["check"]:
            # Where only the client is installed.
            from obitus.client.check import main as check

            for stream in (sys.stdout, sys.stderr):
                if isinstance(stream, TextIOWrapper):
                    # No character that the terminal cannot show may end it.
                    stream.reconfigure(errors="replace")
            sys.exit(check(sys.argv[2:]))
        sys.stderr.write("obitus: the command line is not installed. Run: pip install 'obitus[cli]'\n")
        sys.exit(2)
    from obitus.cli.commands import run

    run()
