"""The checks of ``obitus doctor``: this machine, a data folder, and the service that runs on it."""

from __future__ import annotations

import socket
import sys
import time
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any, Final

import urllib3

from obitus.cli.keeping import Finding, examine
from obitus.core.clock import to_ms
from obitus.core.version import VERSION

LEAST_DESCRIPTORS: Final = 2048
APART_S: Final = 30.0
CONSOLE: Final = "service/console_files/index.html"


def examined(data: Path, port: int) -> Iterator[Finding]:
    """Yield the checks of an installation: of this machine, of a data folder, and of the service that runs on it."""
    yield Finding("Obitus", "right", f"{VERSION} on Python {sys.version.split()[0]}")
    if not (Path(__file__).parents[1] / CONSOLE).is_file():
        yield Finding(
            "console", "wrong", "its files are missing", "In a checkout: make setup. Else install the wheel again."
        )
    yield _descriptors()
    found, address = examine(data)
    yield from found
    if address is None:
        yield _free(port)
    else:
        yield from _service(address)


def _descriptors() -> Finding:
    try:
        import resource
    except ImportError:
        return Finding("descriptors", "right", "not bounded here")
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    if most != resource.RLIM_INFINITY and most < LEAST_DESCRIPTORS:
        return Finding(
            "descriptors",
            "soon",
            f"{most:,} at most: so many files and connections",
            "Raise it: LimitNOFILE=65536 in the unit, or ulimit -n.",
        )
    return Finding("descriptors", "right", "as many as needed" if most == resource.RLIM_INFINITY else f"{most:,}")


def _free(port: int) -> Finding:
    """Check that the port is free, where no service runs on this folder."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError as error:
            return Finding(
                "port",
                "soon",
                f"{port} cannot be had ({error.strerror}), and no service runs on this folder",
                "Another program has it: give obitus serve another --port.",
            )
    return Finding("port", "right", f"{port} is free; no service runs on this folder")


def _service(address: str) -> Iterator[Finding]:
    """Check the service's ``/health``."""
    if not address:
        yield Finding("service", "soon", "it is starting, or stopping", "Look again in a moment.")
        return
    try:
        asked_s = time.time()
        answer = urllib3.request("GET", f"{address}/health", retries=False, timeout=10)
        health: dict[str, Any] = answer.json()
    except (urllib3.exceptions.HTTPError, ValueError) as error:
        yield Finding(
            "service",
            "wrong",
            f"{address} does not answer ({type(error).__name__})",
            "Look at its log; stop it, and start it again.",
        )
        return
    if health.get("ready"):
        yield Finding("service", "right", f"ready at {address}")
    else:
        yield Finding(
            "service",
            "wrong",
            " ".join(map(str, health.get("reasons", ()))) or "not ready",
            "docs/serving.md says what to do for each.",
        )
    if health.get("version") != VERSION:
        yield Finding(
            "running version",
            "soon",
            f"{health.get('version')} runs, {VERSION} is installed",
            "Start it again to bring it up to date.",
        )
    try:
        apart_s = to_ms(datetime.fromisoformat(str(health["time"]))) / 1000 - asked_s
    except (KeyError, ValueError):
        return
    if abs(apart_s) > APART_S:
        yield Finding(
            "clock of the service",
            "soon",
            f"{abs(apart_s):,.0f} s {'ahead of' if apart_s > 0 else 'behind'} this machine's",
            "The clock jumped, or is wrong: set it by NTP.",
        )
