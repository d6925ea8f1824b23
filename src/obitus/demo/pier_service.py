"""Sailings, as it answers the pier's page while that is recorded: ``python -m obitus.demo.pier_service PORT``, in a release's tree."""

from __future__ import annotations

import importlib
import logging
import sys

import uvicorn

import obitus
from obitus.demo.network import Network


def main() -> None:
    """Serve until the process is ended."""
    logging.basicConfig(level=logging.INFO, handlers=[logging.NullHandler()])
    Network(lambda _: None).install()
    obitus.watch(own=("sailings",), spool="off", logs="INFO, httpx=off")
    app = importlib.import_module("sailings.app").app
    uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[1]), log_level="error")


if __name__ == "__main__":
    main()
