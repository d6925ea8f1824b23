"""Secrets of channels and targets: encrypted with a key in a file beside the store, so that a copy of the store
alone does not reveal them.

AES-256-GCM (NIST SP 800-38D) with a random nonce of 96 bits; the secret's purpose is authenticated with it.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import json
import os
import threading
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Final, TypeVar

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from obitus.store.whole_files import written_aside

KEY_NAME: Final = "channels.key"
_KEY_BYTES: Final = 32
_MOST_KEYS: Final = 8
_NONCE_BYTES: Final = 12


Answer = TypeVar("Answer")
Again = Callable[[str, bytes], bytes | None]
"""Gets the purpose and the stored form of secrets; returns them encrypted again, None where they cannot be decrypted."""


class SealBroken(Exception):
    """Secrets cannot be decrypted: the key beside the store is missing, or another one. Says what to do."""


class Seal:
    """Encrypts and decrypts secrets. The key is made at its first use, readable by its owner alone. While the key is
    changed the file has the new one and the one before: after a kill at any moment all secrets can be decrypted.
    """

    def __init__(self, folder: Path) -> None:
        self._path = folder / KEY_NAME
        self._keys: list[bytes] = []
        """The first is in use; earlier ones only decrypt."""
        self._lock = threading.Lock()
        self._changing = threading.Lock()

    def seal(self, purpose: str, secrets: Mapping[str, Any]) -> bytes:
        """Return secrets encrypted; ``purpose`` is needed again for decrypting. Called on the writer, in the commit
        that stores them: else the key may be changed in between.
        """
        nonce = os.urandom(_NONCE_BYTES)
        plain = json.dumps(dict(secrets), ensure_ascii=False).encode("utf-8")
        return nonce + AESGCM(self._keep()[0]).encrypt(nonce, plain, purpose.encode())

    def open(self, purpose: str, sealed: bytes | None) -> dict[str, Any]:
        """Decrypt secrets, none where there are none; raises SealBroken."""
        if sealed is None:
            return {}
        for key in self._keep():
            with contextlib.suppress(InvalidTag):
                plain = AESGCM(key).decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], purpose.encode())
                found: dict[str, Any] = json.loads(plain)
                return found
        raise SealBroken(
            f"its secrets cannot be read with the key in {self._path}: bring that file back from the backup, or give the secrets again"
        )

    def change_key(self, put_all: Callable[[Again], Answer]) -> Answer:
        """Make a new key, and return the result of ``put_all``, which replaces all secrets in the store in one commit."""
        with self._changing:
            keys = [AESGCM.generate_key(bit_length=8 * _KEY_BYTES), *self._keep()][:_MOST_KEYS]
            self._write(keys)
            # They stay in memory: secrets read from the store before can still be decrypted.
            self._keys = keys
            answer = put_all(self._again)
            self._write(keys[:1])
            return answer

    def _again(self, purpose: str, sealed: bytes) -> bytes | None:
        """Return secrets encrypted with the key in use, None where they cannot be decrypted."""
        try:
            return self.seal(purpose, self.open(purpose, sealed))
        except SealBroken:
            return None

    def derive(self, *parts: object) -> str:
        """Return a secret derived from its purpose, 256 bits as text: always the same (HMAC-SHA-256)."""
        joined = "\0".join(map(str, parts)).encode()
        return hmac.new(self._keep()[0], b"derive\0" + joined, hashlib.sha256).hexdigest()

    def _keep(self) -> list[bytes]:
        with self._lock:
            if not self._keys:
                try:
                    key = self._path.read_bytes()
                except FileNotFoundError:
                    key = self._make()
                if not key or len(key) % _KEY_BYTES or len(key) > _MOST_KEYS * _KEY_BYTES:
                    raise SealBroken(
                        f"{self._path} is no key: bring that file back from the backup, or remove it and give all secrets again"
                    )
                self._keys = [key[at : at + _KEY_BYTES] for at in range(0, len(key), _KEY_BYTES)]
            return self._keys

    def _write(self, keys: list[bytes]) -> None:
        """Write keys to the file, completely or not at all."""
        with written_aside(self._path, b"".join(keys)) as partial:
            partial.replace(self._path)

    def _make(self) -> bytes:
        """Make a key, and return the one in the file: the file gets its name only once it is complete, and is never replaced."""
        key = AESGCM.generate_key(bit_length=8 * _KEY_BYTES)
        with written_aside(self._path, key) as partial, contextlib.suppress(FileExistsError):
            # Of two processes that begin at once the first decides.
            os.link(partial, self._path)
        return self._path.read_bytes()
