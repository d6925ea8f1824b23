"""Secrets of channels and targets: encrypted with a key that lies beside the store, not in it. A copy of the store alone gives none away.

AES-256-GCM (NIST SP 800-38D) with a random nonce of 96 bits; what a secret is for is authenticated with it.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import json
import os
import threading
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Final

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from obitus.store.whole_files import written_aside

KEY_NAME: Final = "channels.key"
_KEY_BYTES: Final = 32
_NONCE_BYTES: Final = 12


class SealBroken(Exception):
    """Secrets cannot be read: the key beside the store is missing, or is another one. Says what to do."""


class Seal:
    """Encrypts secrets, and reads them again. The key is made when it is first needed, readable by its owner alone."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / KEY_NAME
        self._key: bytes | None = None
        self._lock = threading.Lock()

    def seal(self, purpose: str, secrets: Mapping[str, Any]) -> bytes:
        """Return secrets encrypted; ``purpose`` has to be given again to read them."""
        nonce = os.urandom(_NONCE_BYTES)
        plain = json.dumps(dict(secrets), ensure_ascii=False).encode("utf-8")
        return nonce + AESGCM(self._keep()).encrypt(nonce, plain, purpose.encode())

    def open(self, purpose: str, sealed: bytes | None) -> dict[str, Any]:
        """Return secrets as they were given, none where there are none; raises SealBroken."""
        if sealed is None:
            return {}
        try:
            plain = AESGCM(self._keep()).decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], purpose.encode())
        except InvalidTag:
            raise SealBroken(
                f"its secrets cannot be read with the key in {self._path}: bring that file back from the backup, or give the secrets again"
            ) from None
        found: dict[str, Any] = json.loads(plain)
        return found

    def derive(self, *parts: object) -> str:
        """Return a secret that follows from what it is for, 256 bits as text: the same again whenever it is asked for (HMAC-SHA-256)."""
        said = "\0".join(map(str, parts)).encode()
        return hmac.new(self._keep(), b"derive\0" + said, hashlib.sha256).hexdigest()

    def _keep(self) -> bytes:
        with self._lock:
            if self._key is None:
                try:
                    key = self._path.read_bytes()
                except FileNotFoundError:
                    key = self._make()
                if len(key) != _KEY_BYTES:
                    raise SealBroken(
                        f"{self._path} is no key: bring that file back from the backup, or remove it and give all secrets again"
                    )
                self._key = key
            return self._key

    def _make(self) -> bytes:
        """Make a key, and return the one that is there: it has its name only once it is whole, and is never replaced."""
        key = AESGCM.generate_key(bit_length=8 * _KEY_BYTES)
        with written_aside(self._path, key) as partial, contextlib.suppress(FileExistsError):
            # Of two that begin at once the first decides.
            os.link(partial, self._path)
        return self._path.read_bytes()
