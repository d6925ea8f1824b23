"""Secrets: made from the system's randomness, kept only as hashes, compared in constant time."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
from typing import Final

SHORTEST_PASSWORD: Final = 12
MOST_LOOKED_AT: Final = 72
LEAST_GUESSES_LOG10: Final = 9.0
KEY_PREFIX: Final = "okey_"
TOKEN_PREFIX: Final = "otok_"

# RFC 7914: N = 2**15, r = 8, p = 1 takes 32 MiB and some 80 ms here.
_SCRYPT_N: Final = 2**15
_SCRYPT_MEMORY: Final = 64 * 1024 * 1024


def new_secret(prefix: str = "") -> str:
    """Return 256 bits of randomness as text."""
    return prefix + secrets.token_urlsafe(32)


def hash_of(secret: str) -> bytes:
    """Return what is kept of a random secret. It has too much entropy to be guessed, so a plain SHA-256 is enough."""
    return hashlib.sha256(secret.encode("utf-8", "surrogateescape")).digest()


def hash_password(password: str) -> str:
    """Return what is kept of a password: scrypt with a salt of its own, parameters included."""
    salt = secrets.token_bytes(16)
    return f"scrypt${_SCRYPT_N}${_b64(salt)}${_b64(_scrypt(password, salt, _SCRYPT_N))}"


def why_weak(password: str, name: str) -> str | None:
    """Return in words why a password is too easy to guess, None where it is not: common ones, repeats, rows of keys, the name."""
    from zxcvbn import zxcvbn

    found = zxcvbn(password[:MOST_LOOKED_AT], user_inputs=[name, "obitus"])
    if float(found["guesses_log10"]) >= LEAST_GUESSES_LOG10:
        return None
    said = found["feedback"]["warning"] or "Too few guesses lead to it."
    return f"{said.rstrip('.')}. Take several words that nobody would put together."


def password_fits(password: str, kept: str | None) -> bool:
    """Whether a password is the one kept; takes as long when none is kept."""
    if kept is None:
        _scrypt(password, b"0" * 16, _SCRYPT_N)
        return False
    _, n, salt, digest = kept.split("$")
    return hmac.compare_digest(_scrypt(password, base64.b64decode(salt), int(n)), base64.b64decode(digest))


def _scrypt(password: str, salt: bytes, n: int) -> bytes:
    return hashlib.scrypt(password.encode(), salt=salt, n=n, r=8, p=1, maxmem=_SCRYPT_MEMORY, dklen=32)


def _b64(raw: bytes) -> str:
    return base64.b64encode(raw).decode()
