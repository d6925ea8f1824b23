"""An HTTP server of a test's own, on loopback."""

from __future__ import annotations

import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path


@contextmanager
def on_loopback(handler: type[BaseHTTPRequestHandler], certificate: Path | None = None) -> Iterator[str]:
    """Serve what a handler answers, by https where there is a certificate of localhost; give its address."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    server.daemon_threads = True
    if certificate is not None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(certificate)
        server.socket = context.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True)
    thread.start()
    try:
        yield f"http{'://127.0.0.1' if certificate is None else 's://localhost'}:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
