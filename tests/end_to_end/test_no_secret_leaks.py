"""What the service is trusted with stays where it belongs: in no log, no list of processes, no core dump, and on disk only as a hash or sealed."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import urllib3
from bench.endure.target import children_of

from tests.conftest import failure, until
from tests.end_to_end.test_nothing_is_lost import free_port

PASSWORD = "lantern-oar-harbour-41"
WEBHOOK_SECRET = "tide-table-secret-9f3a1c"


class Served:
    """A service in a process of its own, with everything in it that nobody else may know."""

    def __init__(self, folder: Path) -> None:
        self.data, self.log = folder / "data", folder / "service.log"
        password = folder / "owner.txt"
        password.write_text(PASSWORD)
        self.data.mkdir(mode=0o700)
        allowed = self.data / "allowed.toml"
        allowed.touch(mode=0o600)
        allowed.write_text('addresses = ["127.0.0.1:9"]')
        port = free_port()
        self.url = f"http://127.0.0.1:{port}"
        words = [sys.executable, "-m", "obitus", "serve", "--data", str(self.data), "--port", str(port)]
        with self.log.open("w") as log:
            self.process = subprocess.Popen([*words, "--password-file", str(password)], stdout=log, stderr=log)
        self.http = urllib3.PoolManager(retries=False, timeout=60)
        until(self._answers)
        signed = self.http.request(
            "POST", self.url + "/api/sign-in", json={"name": "owner", "password": PASSWORD, "token_label": "test"}
        )
        self.session = re.search(r"obitus_session=([^;]+)", str(signed.headers)) or re.search(r"()", "")
        self.token = str(signed.json()["token"])
        self.key = str(self.ask("POST", "/api/apps", {"name": "sailings"})["key"])
        self.ask(
            "POST",
            "/api/channels",
            {
                "name": "depot",
                "kind": "webhook",
                "settings": {"url": "http://127.0.0.1:9/hook"},
                "secrets": {"secret": WEBHOOK_SECRET},
            },
        )

    def _answers(self) -> bool:
        try:
            return self.http.request("GET", self.url + "/health").status == 200
        except urllib3.exceptions.HTTPError:
            return False

    def ask(self, method: str, path: str, order: dict[str, Any]) -> Any:
        answer = self.http.request(
            method, self.url + path, json=order, headers={"Authorization": f"Bearer {self.token}"}
        )
        assert answer.status in (200, 201), answer.data
        return answer.json()

    @property
    def secrets(self) -> dict[str, str]:
        """Everything that nobody else may know."""
        assert self.session is not None
        found = {"password": PASSWORD, "token": self.token, "key": self.key, "secret": WEBHOOK_SECRET}
        return found | ({"session": self.session[1]} if self.session[1] else {})


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    found = Served(tmp_path_factory.mktemp("served"))
    yield found
    found.process.kill()
    found.process.wait()
    found.http.clear()


def test_in_no_log_and_no_error(served: Served) -> None:
    """Whatever goes wrong with a request: neither its answer nor the log has what it was signed with."""
    good = {"Authorization": f"Bearer {served.key}"}
    for headers in (
        good,
        {"Authorization": f"Bearer {served.token}"},
        {"Authorization": "Bearer " + served.key[:-1]},
        {"Cookie": f"obitus_session={served.token}"},
    ):
        for method, path, body in (
            ("POST", "/reports", b"{"),
            ("POST", "/reports", b"\xff" * 99),
            ("GET", "/api/none", None),
            ("POST", "/api/sign-in", json.dumps({"name": "owner", "password": PASSWORD + "x"}).encode()),
            ("PUT", "/api/me/password", b"[]"),
            ("POST", "/v1/logs", b"{"),
        ):
            answer = served.http.request(
                method, served.url + path, body=body, headers=headers | {"Content-Type": "application/json"}
            )
            said = answer.data.decode("utf-8", "replace") + str(answer.headers)
            assert not [name for name, secret in served.secrets.items() if secret in said], (method, path)
    sent = served.http.request("POST", served.url + "/reports", body=json.dumps(failure()).encode(), headers=good)
    assert sent.status == 200
    log = served.log.read_text("utf-8")
    assert "Obitus answers at" in log
    assert not [name for name, secret in served.secrets.items() if secret in log]


def test_in_no_list_of_processes(served: Served) -> None:
    """Neither the service's own words and environment nor those of the processes beside it have any."""
    numbers = [served.process.pid, *children_of(served.process.pid)]
    for number in numbers:
        seen = b"".join(Path(f"/proc/{number}/{name}").read_bytes() for name in ("cmdline", "environ")).decode(
            "utf-8", "replace"
        )
        assert not [name for name, secret in served.secrets.items() if secret in seen]


def test_no_core_is_left(served: Served) -> None:
    """The system may write no memory to disk, of the service or of the processes that it starts."""
    for number in (served.process.pid, *children_of(served.process.pid)):
        limits = Path(f"/proc/{number}/limits").read_text("utf-8")
        assert re.search(r"Max core file size +0 +0 ", limits), limits


def test_on_disk_only_as_a_hash_or_sealed(served: Served) -> None:
    """No file of the data folder has a password, a token, a key, a session or a channel's secret as it is; all are their owner's alone."""
    files = [path for path in served.data.rglob("*") if path.is_file()]
    assert len(files) >= 3
    for path in files:
        held = path.read_bytes()
        assert not [name for name, secret in served.secrets.items() if secret.encode() in held], path
        assert path.stat().st_mode & 0o077 == 0, path
    assert served.data.stat().st_mode & 0o077 == 0
