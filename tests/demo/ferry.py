"""The ferry line's two weeks, loaded once for all processes that test."""

from __future__ import annotations

import fcntl
import json
import os
import re
import shutil
import signal
import subprocess
import sys
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
import urllib3

UNTIL = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S")


def play(folder: Path, *more: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "obitus", "demo", "--data", str(folder), "--port", "0", "--until", UNTIL, *more]
    return subprocess.run(command, capture_output=True, text=True, timeout=110)


@dataclass(frozen=True)
class Shown:
    """What a demo that ran until somebody ended it said, and what was found behind its link."""

    printed: str
    desk: dict[str, Any]
    url: str
    login_url: str
    status: int


def printed_by(demo: subprocess.Popen[str]) -> str:
    """Return what a demo prints until it is ready, or has ended."""
    printed = ""
    for line in demo.stdout or ():
        printed += line
        if "Ctrl-C" in line:
            break
    return printed


def run_once(folder: Path) -> Shown:
    """Run the demo as a person does, follow its link, and end it."""
    command = [sys.executable, "-u", "-m", "obitus", "demo", "--data", str(folder), "--port", "0", "--until", UNTIL]
    running = subprocess.Popen(command, stdout=subprocess.PIPE, text=True, env=os.environ | {"COLUMNS": "200"})
    try:
        printed = printed_by(running)
        (link,) = re.findall(r"http://\S+#\S+", printed)
        url, _, secret = link.partition("/sign-in#")
        answer = urllib3.request("POST", url + "/api/sign-in", json={"link": secret}, timeout=150)
        cookie = answer.headers["Set-Cookie"].split(";")[0]
        desk = urllib3.request("GET", url + "/api/desk", headers={"Cookie": cookie}, timeout=150).json()
        login = json.loads((folder / "login.json").read_text())
        running.send_signal(signal.SIGINT)
        return Shown(printed, desk, url, login["url"], running.wait(60))
    finally:
        running.kill()
        running.wait()
        if running.stdout is not None:
            running.stdout.close()


@pytest.fixture(scope="module")
def shown(tmp_path_factory: pytest.TempPathFactory) -> Shown:
    """What the demo showed: loaded once for all processes that test, since that takes half a minute."""
    shared = tmp_path_factory.getbasetemp().parent / "ferry"
    shared.mkdir(exist_ok=True)
    with (shared / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        said = shared / "shown.json"
        if not said.exists():
            found = run_once(shared / "demo")
            said.write_text(json.dumps(asdict(found)))
    return Shown(**json.loads(said.read_text()))


@pytest.fixture(scope="module")
def loaded(shown: Shown, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the demo's folder for this process: a service locks the folder that it uses."""
    assert shown.status == 0
    folder = tmp_path_factory.mktemp("ferry") / "demo"
    shutil.copytree(tmp_path_factory.getbasetemp().parent / "ferry" / "demo", folder)
    return folder
