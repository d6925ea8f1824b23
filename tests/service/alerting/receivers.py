"""What messages are sent to in tests: an HTTP receiver that does as it is told, and a real SMTP server with TLS."""

from __future__ import annotations

import asyncio
import datetime
import ipaddress
import json
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, NamedTuple

from aiosmtpd.smtp import SMTP, AuthResult, Envelope, LoginPassword, Session
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID


class Got(NamedTuple):
    """A request that came in."""

    path: str
    headers: dict[str, str]
    body: bytes

    def json(self) -> Any:
        """Return the body as what it says."""
        return json.loads(self.body)


@dataclass
class Receiver:
    """An HTTP server on loopback. ``act`` answers a request when it is set; otherwise each gets the status."""

    url: str = ""
    port: int = 0
    status: int = 204
    got: list[Got] = field(default_factory=list)
    act: Any = None


@contextmanager
def receiving(context: ssl.SSLContext | None = None) -> Iterator[Receiver]:
    """Run a receiver."""
    found = Receiver()

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
            got = Got(self.path, {name.lower(): value for name, value in self.headers.items()}, body)
            found.got.append(got)
            if found.act is not None:
                found.act(self, got)
                return
            self.send_response(found.status)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    class Server(ThreadingHTTPServer):
        daemon_threads = True
        block_on_close = False

        def handle_error(self, *_: object) -> None:
            """Who asks may leave."""

    server = Server(("127.0.0.1", 0), Handler)
    if context is not None:
        server.socket = context.wrap_socket(server.socket, server_side=True)
    found.port = server.server_address[1]
    found.url = f"{'http' if context is None else 'https'}://127.0.0.1:{found.port}/hook"
    thread = threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True)
    thread.start()
    try:
        yield found
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


class Certificate(NamedTuple):
    """A certificate of localhost, what trusts it, and the file that holds it with its key."""

    serving: ssl.SSLContext
    trusting: ssl.SSLContext
    file: Path


def certificate(folder: Path, *, days: int = 2, names: tuple[str, ...] = ()) -> Certificate:
    """Make a certificate of localhost and of further names; one with ``days`` below 0 has expired."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "localhost")])
    now = datetime.datetime.now(datetime.UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - datetime.timedelta(days=10))
        .not_valid_after(now + datetime.timedelta(days=days))
        .add_extension(
            x509.SubjectAlternativeName(
                [
                    *(x509.DNSName(one) for one in ("localhost", *names)),
                    x509.IPAddress(ipaddress.ip_address("127.0.0.1")),
                ]
            ),
            critical=False,
        )
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / f"localhost{days}.pem"
    file.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        + made.public_bytes(serialization.Encoding.PEM)
    )
    serving = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    serving.load_cert_chain(file)
    return Certificate(
        serving, ssl.create_default_context(cadata=made.public_bytes(serialization.Encoding.PEM).decode()), file
    )


@dataclass
class MailServer:
    """An SMTP server on loopback, and what it took."""

    port: int = 0
    mails: list[EmailMessage] = field(default_factory=list)
    signed_in: list[str] = field(default_factory=list)
    to: list[list[str]] = field(default_factory=list)
    answer: str = "250 kept as 7"
    refuses: set[str] = field(default_factory=set)
    tls: list[bool] = field(default_factory=list)


@contextmanager
def mail_server(
    context: ssl.SSLContext | None = None, *, tls: str = "starttls", password: str = ""
) -> Iterator[MailServer]:
    """Run a real SMTP server: with STARTTLS required, TLS from the beginning, or none; with sign-in where a password is given."""
    found = MailServer()

    class Handler:
        async def handle_RCPT(
            self, server: SMTP, session: Session, envelope: Envelope, address: str, _: list[str]
        ) -> str:
            if address in found.refuses:
                return "550 nobody of that name"
            envelope.rcpt_tos.append(address)
            return "250 OK"

        async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
            if not found.answer.startswith("2"):
                return found.answer
            assert isinstance(envelope.content, bytes)
            mail = message_from_bytes(envelope.content, policy=policy.default)
            found.mails.append(mail)  # type: ignore[arg-type]
            found.to.append(list(envelope.rcpt_tos))
            found.tls.append(session.ssl is not None or tls == "tls")
            return found.answer

    def sign_in(server: SMTP, session: Session, envelope: Envelope, mechanism: str, data: Any) -> AuthResult:
        good = isinstance(data, LoginPassword) and data.password == password.encode()
        if good:
            found.signed_in.append(data.login.decode())
        return AuthResult(success=good, handled=False)

    def served() -> SMTP:
        return SMTP(
            Handler(),
            hostname="localhost",
            tls_context=context if tls == "starttls" else None,
            require_starttls=tls == "starttls" and context is not None,
            authenticator=sign_in if password else None,
            auth_required=bool(password) and tls == "starttls",
            auth_require_tls=tls == "starttls",
        )

    loop = asyncio.new_event_loop()
    opening = loop.create_server(served, "127.0.0.1", 0, ssl=context if tls == "tls" else None)
    server = loop.run_until_complete(opening)
    found.port = server.sockets[0].getsockname()[1]
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    try:
        yield found
    finally:
        loop.call_soon_threadsafe(server.close)
        loop.call_soon_threadsafe(_cancel_all, loop)
        loop.call_soon_threadsafe(loop.stop)
        thread.join()
        loop.run_until_complete(loop.shutdown_asyncgens())
        loop.close()


def _cancel_all(loop: asyncio.AbstractEventLoop) -> None:
    for task in asyncio.all_tasks(loop):
        task.cancel()
