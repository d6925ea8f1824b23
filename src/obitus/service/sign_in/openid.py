"""Sign-in by an OpenID Connect provider: authorization code with PKCE.

Sources: OpenID Connect Core 1.0 (sections 3.1 and 3.1.3.7), OpenID Connect Discovery 1.0, RFC 6749 (codes), RFC 7636 (PKCE),
RFC 9207 (the issuer in the answer), RFC 7517 and 7519 (keys and tokens, by PyJWT).
"""

from __future__ import annotations

import base64
import hashlib
import json
import logging
import secrets
import threading
import time
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any, Final
from urllib.parse import quote_plus, urlencode, urlsplit

import jwt
import urllib3

from obitus.service.secrets import hash_of
from obitus.service.settings import OpenId

_log = logging.getLogger("obitus.service")

BEGUN_LASTS_S: Final = 600.0
MOST_BEGUN: Final = 1000
KNOWN_LASTS_S: Final = 3600.0
KEYS_AGAIN_AFTER_S: Final = 30.0
MOST_BYTES: Final = 256 * 1024
LEEWAY_S: Final = 60
LONGEST_TOKEN: Final = 32 * 1024
_ALGORITHMS: Final = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"]
_REQUIRED: Final = ["iss", "sub", "aud", "exp", "iat"]


class OpenIdTrouble(Exception):
    """The provider's answer is invalid or not trustworthy. The text is for the log."""


@dataclass(frozen=True, slots=True)
class Begun:
    """A sign-in in progress in a browser: values for checking its end, and its purpose."""

    state: str
    nonce: str
    verifier: str
    started_s: float
    invitation: str | None
    person_id: int | None
    """The signed-in person who connects a provider's account, if any."""


@dataclass(frozen=True, slots=True)
class Vouched:
    """The identity from the provider."""

    issuer: str
    subject: str
    name: str


class OpenIdSignIn:
    """Begins and finishes sign-ins at one provider. Sign-ins in progress are only in memory: after a restart they begin again."""

    def __init__(self, settings: OpenId, back: str) -> None:
        self.settings, self._back = settings, back
        self._begun: OrderedDict[bytes, Begun] = OrderedDict()
        self._lock = threading.Lock()
        self._http = urllib3.PoolManager(retries=False, timeout=urllib3.Timeout(connect=5, read=10))
        self._known: dict[str, Any] = {}
        self._known_s = -KNOWN_LASTS_S
        self._keys: dict[str, jwt.PyJWK] = {}
        self._keys_s = -KEYS_AGAIN_AFTER_S

    def close(self) -> None:
        """Close connections to the provider."""
        self._http.clear()

    def begin(self, *, invitation: str | None = None, person_id: int | None = None) -> tuple[str, str]:
        """Return the address for the browser's redirect, and the value of the cookie that has to come back."""
        known = self._provider()
        begun = Begun(
            secrets.token_urlsafe(32),
            secrets.token_urlsafe(32),
            secrets.token_urlsafe(48),
            time.monotonic(),
            invitation,
            person_id,
        )
        secret = secrets.token_urlsafe(32)
        with self._lock:
            self._begun[hash_of(secret)] = begun
            while len(self._begun) > MOST_BEGUN:
                self._begun.popitem(last=False)
        challenge = base64.urlsafe_b64encode(hashlib.sha256(begun.verifier.encode()).digest()).rstrip(b"=").decode()
        asked = {
            "response_type": "code",
            "client_id": self.settings.client_id,
            "redirect_uri": self._back,
            "scope": "openid profile email",
            "state": begun.state,
            "nonce": begun.nonce,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
        }
        address = str(known["authorization_endpoint"])
        return f"{address}{'&' if urlsplit(address).query else '?'}{urlencode(asked)}", secret

    def finish(self, held: str, state: str, code: str, issuer: str | None, now_s: float) -> tuple[Begun, Vouched]:
        """Return the sign-in and the identity from the provider; raises OpenIdTrouble. Each sign-in ends once."""
        with self._lock:
            begun = self._begun.pop(hash_of(held), None)
        if begun is None or time.monotonic() - begun.started_s > BEGUN_LASTS_S:
            raise OpenIdTrouble("the sign-in was not begun here, was finished, or took more than ten minutes")
        if not secrets.compare_digest(begun.state.encode(), state.encode("utf-8", "replace")):
            raise OpenIdTrouble("the state that came back is not the one that was sent")
        if issuer is not None and issuer != self.settings.issuer:
            raise OpenIdTrouble(f"the answer says that it is from {issuer[:100]!r}")
        answer = self._tokens(code, begun.verifier)
        token = answer.get("id_token")
        if not isinstance(token, str) or len(token) > LONGEST_TOKEN:
            raise OpenIdTrouble("the provider sent no ID token")
        return begun, self._checked(token, begun.nonce, now_s)

    def _checked(self, token: str, nonce: str, now_s: float) -> Vouched:
        """Return the identity in an ID token, after all checks of OpenID Connect Core 3.1.3.7."""
        try:
            key = self._key(str(jwt.get_unverified_header(token).get("kid", "")))
            # Times are checked below, by the service's own clock.
            claims = jwt.decode(
                token,
                key.key,
                algorithms=_ALGORITHMS,
                audience=self.settings.client_id,
                issuer=self.settings.issuer,
                options={"require": _REQUIRED, "verify_exp": False, "verify_iat": False, "verify_nbf": False},
            )
        except jwt.PyJWTError as error:
            raise OpenIdTrouble(f"the ID token is not right: {error}") from None
        if not secrets.compare_digest(str(claims.get("nonce", "")).encode(), nonce.encode()):
            raise OpenIdTrouble("the ID token was made for another sign-in")
        several = isinstance(claims["aud"], list) and len(claims["aud"]) > 1
        if (several or "azp" in claims) and claims.get("azp") != self.settings.client_id:
            raise OpenIdTrouble("the ID token was made for another client")
        expires_s, made_s = claims["exp"], claims["iat"]
        if not all(isinstance(value, int | float) for value in (expires_s, made_s)):
            raise OpenIdTrouble("the times of the ID token are no numbers")
        if now_s > expires_s + LEEWAY_S or now_s < made_s - LEEWAY_S:
            raise OpenIdTrouble("the ID token is too old, or from the future. Compare the clocks of both machines")
        name = next(
            (
                str(claims[claim]).strip()
                for claim in ("name", "preferred_username", "email")
                if isinstance(claims.get(claim), str) and claims[claim].strip()
            ),
            str(claims["sub"]),
        )
        printable = "".join(character for character in name if character.isprintable())
        return Vouched(self.settings.issuer, str(claims["sub"])[:255], printable[:60] or "somebody")

    def _tokens(self, code: str, verifier: str) -> dict[str, Any]:
        """Exchange a code (RFC 6749, 4.1.3); the client authenticates by RFC 6749, 2.3.1."""
        form = {
            "grant_type": "authorization_code",
            "code": code,
            "redirect_uri": self._back,
            "code_verifier": verifier,
        }
        headers = {"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
        if self.settings.client_secret:
            pair = f"{quote_plus(self.settings.client_id)}:{quote_plus(self.settings.client_secret)}"
            headers["Authorization"] = f"Basic {base64.b64encode(pair.encode()).decode()}"
        else:
            form["client_id"] = self.settings.client_id
        return self._asked("POST", str(self._provider()["token_endpoint"]), headers, urlencode(form))

    def _provider(self) -> dict[str, Any]:
        """Return the provider's metadata (Discovery 1.0, section 4), requested once an hour."""
        if time.monotonic() - self._known_s > KNOWN_LASTS_S:
            address = self.settings.issuer.rstrip("/") + "/.well-known/openid-configuration"
            provider = self._asked("GET", address, {}, None)
            if provider.get("issuer") != self.settings.issuer:
                raise OpenIdTrouble(
                    f"{address} is about {str(provider.get('issuer'))[:100]!r}. Give exactly that as --openid-issuer"
                )
            for name in ("authorization_endpoint", "token_endpoint", "jwks_uri"):
                check_address(str(provider.get(name, "")))
            self._known, self._known_s = provider, time.monotonic()
        return self._known

    def _key(self, kid: str) -> jwt.PyJWK:
        """Return the provider's key of that name; its keys are requested again when there is none, since they change."""
        if kid not in self._keys and time.monotonic() - self._keys_s > KEYS_AGAIN_AFTER_S:
            found = self._asked("GET", str(self._provider()["jwks_uri"]), {}, None)
            keys = jwt.PyJWKSet.from_dict(found).keys
            self._keys, self._keys_s = {str(key.key_id or ""): key for key in keys}, time.monotonic()
        if kid not in self._keys and not (kid == "" and len(self._keys) == 1):
            raise OpenIdTrouble("the ID token is signed with a key that the provider does not name")
        return self._keys[kid] if kid in self._keys else next(iter(self._keys.values()))

    def _asked(self, method: str, address: str, headers: dict[str, str], body: str | None) -> dict[str, Any]:
        check_address(address)
        try:
            answer = self._http.request(
                method, address, headers=headers, body=body, preload_content=False, redirect=False
            )
            try:
                content = answer.read(MOST_BYTES + 1)
            finally:
                answer.release_conn()
            content_read = json.loads(content) if len(content) <= MOST_BYTES else None
        except (urllib3.exceptions.HTTPError, ValueError) as error:
            raise OpenIdTrouble(f"{address} does not answer as a provider should: {error}") from None
        if answer.status != 200 or not isinstance(content_read, dict):
            error_code = str(content_read.get("error", ""))[:100] if isinstance(content_read, dict) else ""
            raise OpenIdTrouble(f"{address} answers {answer.status} {error_code}")
        return content_read


def check_address(address: str) -> None:
    """Raise OpenIdTrouble for an address that is not https, except on this machine."""
    parts = urlsplit(address)
    if parts.scheme == "https" or (parts.scheme == "http" and parts.hostname in ("127.0.0.1", "::1", "localhost")):
        return
    raise OpenIdTrouble(f"{address[:100]!r} is no https address")
