"""Proxies in front of a running service, each set up by its file in ``deploy``, with TLS: only addresses and the certificate are the test's own."""

from __future__ import annotations

import json
import os
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ClassVar

import urllib3

from tests.client.programs import free_port
from tests.conftest import Running, serving, until
from tests.service.alerting.receivers import certificate

ROOT = Path(__file__).parents[2]
NAME = "obitus.skerry.example"


class Front:
    """A proxy in front of a running service."""

    FILE: ClassVar[str]

    def __init__(self, folder: Path, running: Running, own_port: int) -> None:
        self.folder, self.running, self.own_port = folder, running, own_port
        self.port, self.plain_port = free_port(), free_port()
        self.certificate = certificate(folder, names=(NAME,)).file
        text = (ROOT / "deploy" / self.FILE).read_text("utf-8")
        for there, here in self.own_places().items():
            assert there in text, there
            text = text.replace(there, here)
        self.log = folder / "error.log"
        command = self.command(text)
        with self.log.open("wb") as log:
            self.process = subprocess.Popen(
                command, stderr=log, cwd=folder, env={"HOME": str(folder), "PATH": os.defpath}
            )
        self.https = self.pool(4)
        until(self._listens)

    def own_places(self) -> dict[str, str]:
        """Return what the file says, and what stands there in the test."""
        raise NotImplementedError

    def command(self, text: str) -> list[str]:
        """Write the set-up down; return what starts the proxy with it."""
        raise NotImplementedError

    def pool(self, most: int = 1) -> urllib3.HTTPSConnectionPool:
        """Return connections to the proxy that trust its certificate."""
        return urllib3.HTTPSConnectionPool(
            "127.0.0.1", self.port, ca_certs=str(self.certificate), server_hostname=NAME, assert_hostname=NAME,
            retries=False, timeout=60, maxsize=most,
        )  # fmt: skip

    def ask(
        self, method: str, path: str, *, headers: dict[str, str] | None = None, body: Any = None, **more: Any
    ) -> urllib3.BaseHTTPResponse:
        """Ask through the proxy; a body that is no bytes goes as JSON."""
        sent = body if isinstance(body, bytes) or body is None else json.dumps(body).encode()
        return self.https.request(method, path, body=sent, headers={"Host": NAME} | (headers or {}), **more)

    def _listens(self) -> bool:
        assert self.process.poll() is None, self.log.read_text("utf-8")
        with socket.socket() as one:
            return one.connect_ex(("127.0.0.1", self.port)) == 0

    def close(self) -> None:
        """End the proxy."""
        self.https.close()
        self.process.terminate()
        self.process.wait(60)


@contextmanager
def behind(kind: type[Front], folder: Path) -> Iterator[Front]:
    """Run a service that knows of a proxy, and the proxy in front of it."""
    port = free_port()
    with serving(folder / "data", port=port, public_url=f"https://{NAME}", proxies=("127.0.0.1",)) as running:
        front = kind(folder, running, port)
        try:
            yield front
        finally:
            front.close()


class Nginx(Front):
    """nginx, as ``deploy/nginx.conf`` says."""

    FILE = "nginx.conf"
    AROUND = """
daemon off; pid {folder}/nginx.pid; error_log {folder}/error.log warn; worker_processes 1;
events {{ worker_connections 512; }}
http {{
  access_log off;
  client_body_temp_path {folder}/body; proxy_temp_path {folder}/proxy;
  fastcgi_temp_path {folder}/fastcgi; uwsgi_temp_path {folder}/uwsgi; scgi_temp_path {folder}/scgi;
  include {folder}/obitus.conf;
}}
"""

    def own_places(self) -> dict[str, str]:
        return {
            "127.0.0.1:8611": f"127.0.0.1:{self.own_port}",
            "listen 443 ssl": f"listen 127.0.0.1:{self.port} ssl",
            "listen 80": f"listen 127.0.0.1:{self.plain_port}",
            "/etc/ssl/obitus/fullchain.pem": str(self.certificate),
            "/etc/ssl/obitus/privkey.pem": str(self.certificate),
        }

    def command(self, text: str) -> list[str]:
        (self.folder / "obitus.conf").write_text(text)
        whole = self.folder / "nginx.conf"
        whole.write_text(self.AROUND.format(folder=self.folder))
        program = ROOT / "build/proxies/usr/sbin/nginx"
        return [str(program), "-e", str(self.log), "-p", str(self.folder), "-c", str(whole)]


class Caddy(Front):
    """Caddy, as ``deploy/Caddyfile`` says, with a certificate of the test's own in place of one that it gets by itself."""

    FILE = "Caddyfile"

    def own_places(self) -> dict[str, str]:
        places = f"https://{NAME}:{self.port}, https://localhost:{self.port}"
        return {
            f"\n{NAME} {{\n": f"\n{places} {{\n\tbind 127.0.0.1\n\ttls {self.certificate} {self.certificate}\n",
            "127.0.0.1:8611": f"127.0.0.1:{self.own_port}",
        }

    def command(self, text: str) -> list[str]:
        whole = self.folder / "Caddyfile"
        own = f"{{\n\tadmin off\n\tskip_install_trust\n\tgrace_period 1s\n\thttp_port {self.plain_port}\n\thttps_port {self.port}\n}}\n"
        whole.write_text(own + text)
        program = ROOT / "build/proxies/usr/bin/caddy"
        return [str(program), "run", "--config", str(whole), "--adapter", "caddyfile"]
