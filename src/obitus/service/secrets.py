"""Secrets: made from the system's randomness, kept only as hashes, compared in constant time."""

from __future__ import annotations

import base64
import hashlib
import hmac
import secrets
from functools import cache
from typing import Final

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

SHORTEST_PASSWORD: Final = 12
MOST_LOOKED_AT: Final = 72
LEAST_GUESSES_LOG10: Final = 9.0
KEY_PREFIX: Final = "okey_"
PAGE_KEY_PREFIX: Final = "opage_"
"""Prefix of keys for pages, which everybody can read."""
TOKEN_PREFIX: Final = "otok_"

HASH_KIB: Final = 47_104
HASH_ROUNDS: Final = 2
"""46 MiB in two passes: one pass is the minimum for Argon2id in OWASP's Password Storage Cheat Sheet."""

_LEGACY_MEMORY: Final = 64 * 1024 * 1024


def new_secret(prefix: str = "") -> str:
    """Return 256 bits of randomness as text."""
    return prefix + secrets.token_urlsafe(32)


def hash_of(secret: str) -> bytes:
    """Return the stored hash of a random secret. It has too much entropy to be guessed, so a plain SHA-256 is enough."""
    return hashlib.sha256(secret.encode("utf-8", "surrogateescape")).digest()


def hash_password(password: str) -> str:
    """Return the stored hash of a password: Argon2id (RFC 9106), its parameters and a salt of its own included."""
    return _hasher().hash(password)


def why_weak(password: str, name: str) -> str | None:
    """Return in words why a password is too easy to guess, None where it is not: common ones, repetitions, rows of keys, the name."""
    from zxcvbn import zxcvbn

    estimate = zxcvbn(password[:MOST_LOOKED_AT], user_inputs=[name, "obitus"])
    if float(estimate["guesses_log10"]) >= LEAST_GUESSES_LOG10:
        return None
    warning = estimate["feedback"]["warning"] or "Too few guesses lead to it."
    return f"{warning.rstrip('.')}. Take several words that do not belong together."


def password_fits(password: str, kept: str | None) -> bool:
    """Whether a password matches the stored hash; takes as long when there is none."""
    if kept is not None and kept.startswith("scrypt$"):
        _, n, salt, digest = kept.split("$")
        return hmac.compare_digest(_scrypt(password, base64.b64decode(salt), int(n)), base64.b64decode(digest))
    try:
        return _hasher().verify(kept or _of_nobody(), password) and kept is not None
    except (VerificationError, InvalidHashError):
        return False


def needs_renewal(kept: str) -> bool:
    """Whether a hash is of an earlier kind, and should be made again when its password is available."""
    return kept.startswith("scrypt$") or _hasher().check_needs_rehash(kept)


@cache
def _hasher() -> PasswordHasher:
    # One lane: with more, one stranger's guess would use all processors at once.
    return PasswordHasher(time_cost=HASH_ROUNDS, memory_cost=HASH_KIB, parallelism=1)


@cache
def _of_nobody() -> str:
    return _hasher().hash(new_secret())


def _scrypt(password: str, salt: bytes, n: int) -> bytes:
    """Return the digest (RFC 7914, r = 8, p = 1) that early versions stored."""
    return hashlib.scrypt(
        password.encode("utf-8", "surrogateescape"), salt=salt, n=n, r=8, p=1, maxmem=_LEGACY_MEMORY, dklen=32
    )
