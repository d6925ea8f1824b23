"""A disk that fills up: reports are refused with a reason while reading goes on; once there is room all goes on by itself."""

from __future__ import annotations

import json
import os
import subprocess
import time
from dataclasses import dataclass
from pathlib import Path

import urllib3

from bench.endure.target import Target, report

DISK_MB, BALLAST_MB = 24, 12
LONGEST_S = 60.0


@dataclass
class Disk:
    """What was answered when the disk was full, and what was acknowledged before that and after."""

    answer: int = 0
    health: int = 0
    reading: int = 0
    before: int = 0
    after: int = 0
    wrong: int = 0


def fill(folder: Path) -> Disk | None:
    """Run a service on a small disk of its own until that is full, and make room; None where no disk can be mounted."""
    folder.mkdir()
    words = ["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m", "none", str(folder)]
    if subprocess.run(words, capture_output=True).returncode != 0:
        return None
    try:
        return _filled(folder)
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


def _filled(folder: Path) -> Disk:
    from bench.endure.running import compared

    found, kept = Disk(), set[str]()
    ballast = folder / "ballast"
    target = Target(folder / "data", log=folder.parent / "disk.log")
    ballast.write_bytes(os.urandom(BALLAST_MB * 1024 * 1024))
    with urllib3.PoolManager(retries=False, timeout=20) as http:

        def send() -> int:
            # What cannot be compressed.
            made = [report(os.urandom(6000).hex()) for _ in range(10)]
            body = b"\n".join(json.dumps(one).encode() for _, one in made)
            answer = http.request("POST", target.url + "/reports", body=body, headers={"Authorization": f"Bearer {target.honest}"})  # fmt: skip
            if answer.status == 200:
                kept.update(line["id"] for line in answer.json()["lines"])
            return answer.status

        ends_s = time.monotonic() + LONGEST_S
        while found.answer != 507 and time.monotonic() < ends_s:
            found.answer = send()
        found.before = len(kept)
        found.health = http.request("GET", target.url + "/health").status
        headers = {"Authorization": f"Bearer {target.token}"}
        found.reading = http.request("GET", target.url + "/api/issues?window=1h", headers=headers).status
        ballast.unlink()
        ends_s = time.monotonic() + LONGEST_S
        while send() != 200 and time.monotonic() < ends_s:
            time.sleep(0.1)
        found.after = len(kept) - found.before
    target.stop()
    found.wrong = sum(compared(folder / "data", kept))
    return found
