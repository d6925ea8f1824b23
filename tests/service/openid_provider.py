"""A small OpenID Connect provider for tests: it vouches for whoever it is told to, and checks what a provider checks."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import jwt
from cryptography.hazmat.primitives.asymmetric import rsa

CLIENT, SECRET = "obitus-at-skerry", "tide & ebb"


class Provider:
    """Serves discovery, keys, authorization and tokens on loopback."""

    def __init__(self) -> None:
        self.key = rsa.generate_private_key(public_exponent=65537, key_size=2048)
        self.claims: dict[str, Any] = {"sub": "u-17", "name": "Ida Moss"}
        """Whom it vouches for, and what it is wrong about."""
        self.signs_with: Any = self.key
        self.algorithm = "RS256"
        self.codes: dict[str, dict[str, str]] = {}
        self.asked: list[str] = []
        provider = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                provider.get(self)

            def do_POST(self) -> None:
                provider.post(self)

            def log_message(self, *_: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.server.daemon_threads = True
        self.issuer = f"http://127.0.0.1:{self.server.server_address[1]}"
        self.thread = threading.Thread(target=self.server.serve_forever, args=(0.05,))
        self.thread.start()

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()
        self.thread.join()

    def get(self, request: BaseHTTPRequestHandler) -> None:
        parts = urlsplit(request.path)
        self.asked.append(parts.path)
        if parts.path == "/.well-known/openid-configuration":
            return self._answer(
                request,
                {
                    "issuer": self.issuer,
                    "authorization_endpoint": f"{self.issuer}/authorize",
                    "token_endpoint": f"{self.issuer}/token",
                    "jwks_uri": f"{self.issuer}/keys",
                },
            )
        if parts.path == "/keys":
            public = json.loads(jwt.algorithms.RSAAlgorithm.to_jwk(self.key.public_key()))
            return self._answer(request, {"keys": [public | {"kid": "one", "use": "sig", "alg": "RS256"}]})
        asked = {name: values[0] for name, values in parse_qs(parts.query).items()}
        assert asked["response_type"] == "code" and asked["client_id"] == CLIENT
        assert asked["code_challenge_method"] == "S256" and "openid" in asked["scope"].split()
        code = secrets.token_urlsafe(8)
        self.codes[code] = asked
        back = urlencode({"code": code, "state": asked["state"], "iss": self.issuer})
        request.send_response(302)
        request.send_header("Location", f"{asked['redirect_uri']}?{back}")
        request.send_header("Content-Length", "0")
        request.end_headers()
        return None

    def post(self, request: BaseHTTPRequestHandler) -> None:
        length = int(request.headers["Content-Length"])
        form = {name: values[0] for name, values in parse_qs(request.rfile.read(length).decode()).items()}
        asked = self.codes.pop(form["code"], None)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(form["code_verifier"].encode()).digest()).rstrip(b"=")
        pair = base64.b64decode(request.headers["Authorization"].removeprefix("Basic ")).decode()
        if (
            asked is None
            or challenge.decode() != asked["code_challenge"]
            or form["redirect_uri"] != asked["redirect_uri"]
            or pair != f"{CLIENT}:tide+%26+ebb"
        ):
            return self._answer(request, {"error": "invalid_grant"}, 400)
        now = int(time.time())
        claims = {"iss": self.issuer, "aud": CLIENT, "exp": now + 300, "iat": now, "nonce": asked["nonce"]}
        token = jwt.encode(claims | self.claims, self.signs_with, algorithm=self.algorithm, headers={"kid": "one"})
        return self._answer(request, {"access_token": "unused", "token_type": "Bearer", "id_token": token})

    @staticmethod
    def _answer(request: BaseHTTPRequestHandler, content: dict[str, Any], status: int = 200) -> None:
        body = json.dumps(content).encode()
        request.send_response(status)
        request.send_header("Content-Type", "application/json")
        request.send_header("Content-Length", str(len(body)))
        request.end_headers()
        request.wfile.write(body)
