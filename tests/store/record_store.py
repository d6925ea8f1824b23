"""Record the store that a version of Obitus makes of the same reports: ``python -m tests.store.record_store FILE``.

What is kept in ``tests/store/stores`` was made so, each by the last commit of its schema version. A new schema version adds
the store of the one before. The reports are the same each time: four kinds, two days, two releases, an issue that was settled
and regressed, and one that was merged into another.
"""

from __future__ import annotations

import io
import json
import sqlite3
import sys
import tarfile
import tempfile
import time
import uuid
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import urllib3
import zstandard

NAMESPACE = uuid.UUID("7d9b3a52-6a3e-4d4e-9a59-0d6d1f0c5a11")


def reports(now: datetime) -> list[dict[str, Any]]:
    """Return reports of two days, each with an id that is the same whenever they are made."""
    found: list[dict[str, Any]] = []
    for days_ago, release in ((1, "3.0.0"), (0, "3.1.0")):
        at = now - timedelta(days=days_ago, minutes=5)
        for place in ("depth_at", "quote", "board"):
            frame = {"function": place, "module": "sailings.tides", "file": "/srv/tides.py", "line": 22}
            chain = [{"type": "skerry.TideUnavailable", "message": f"no {place}", "frames": [frame]}]
            run = {"entry_point": "GET /berths"}
            found.append({"kind": "failure", "time": at, "release": release, "exceptions": chain, "run": run, "trace_id": "0af7651916cd43dd8448eb211c80319c"})  # fmt: skip
        attributes = {"user.id": "p-102", "wait_s": 2.5}
        found += [
            {"kind": "log", "time": at, "severity": "WARN", "logger": "pier", "message": "berth 4 is taken", "template": "berth %d is taken", "attributes": attributes},
            {"kind": "run", "time": at, "release": release, "run": {"entry_point": "GET /berths", "outcome": "failed", "duration_ms": 12.5}, "request": {"method": "GET", "url": "/berths"}},
            {"kind": "tally", "time": at, "release": release, "entry_point": "GET /berths", "outcome": "failed", "runs": 7},
        ]  # fmt: skip
    for number, report in enumerate(found):
        report |= {
            "id": str(uuid.uuid5(NAMESPACE, str(number))),
            "time": report["time"].isoformat(timespec="milliseconds"),
        }
    return found


def main() -> None:
    """Start a service on an empty folder, send the reports, decide something, and write what its store holds as SQL."""
    from obitus.service.run import InThread, listen
    from obitus.service.settings import Settings
    from obitus.service.wiring import Parts

    folder = Path(tempfile.mkdtemp())
    opened = listen("127.0.0.1", 0)
    url = f"http://127.0.0.1:{opened.getsockname()[1]}"
    service = Parts(Settings(data=folder, port=opened.getsockname()[1]))
    service.passes.ensure_owner()
    thread = InThread(service, opened)
    thread.start()
    http = urllib3.PoolManager(retries=False)
    headers = {"Authorization": f"Bearer {service.passes.add('token', 1, 'recorded', None)}"}

    def ask(method: str, path: str, body: Any) -> Any:
        answer = http.request(method, url + path, headers=headers, json=body)
        assert answer.status < 300, answer.data
        return answer.json()

    key = ask("POST", "/api/apps", {"name": "sailings", "environment": "production"})["key"]
    made = reports(datetime.now(UTC))

    def send(some: list[dict[str, Any]]) -> None:
        sent = {"Authorization": f"Bearer {key}", "Content-Type": "application/x-ndjson"}
        answer = http.request("POST", url + "/reports", body="\n".join(map(json.dumps, some)), headers=sent)
        assert answer.status == 200, answer.data

    send(made[:6])
    for order in ({"how": "release", "release": "3.1.0"}, {"how": "in", "release": "3.1.0"}, {"release": "3.1.0"}):
        answer = http.request("POST", f"{url}/api/issues/1/settle", headers=headers, json=order)
        if answer.status < 300:
            break
    assert answer.status < 300, answer.data
    send(made[6:])
    if http.request("POST", f"{url}/api/issues/2/merge", headers=headers, json={"into": 3}).status < 300:
        time.sleep(1.5)
    http.clear()
    thread.stop()
    # What it keeps: the main file and those of the days. Up to version 7 there was one file, and the SQL that makes it was kept.
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w") as archive:
        for path in sorted(folder.rglob("*.sqlite3")):
            archive.add(path, path.relative_to(folder))
    Path(sys.argv[1]).write_bytes(zstandard.ZstdCompressor(level=19).compress(packed.getvalue()))
    connection = sqlite3.connect(folder / "obitus.sqlite3")
    print(connection.execute("PRAGMA user_version").fetchone()[0])


if __name__ == "__main__":
    main()
