"""Ids that sort by time (UUID version 7, RFC 9562, section 5.7). Standard library only: the client uses this too."""

from __future__ import annotations

import uuid
from hashlib import blake2b


def uuid7(time_ms: int, random_bytes: bytes) -> uuid.UUID:
    """Make a UUIDv7 from a Unix time in milliseconds and ten random bytes (74 of their 80 bits are used)."""
    if len(random_bytes) != 10:
        raise ValueError("uuid7 needs exactly 10 random bytes")
    value = (time_ms & 0xFFFF_FFFF_FFFF) << 80 | int.from_bytes(random_bytes, "big")
    value = value & ~(0xF << 76) | 0x7 << 76
    value = value & ~(0x3 << 62) | 0x2 << 62
    return uuid.UUID(int=value)


def derived_id(time_ms: int, *parts: object) -> str:
    """Make an id from its time and parts: the same ones give the same id again."""
    text = "\0".join(map(str, parts))
    return str(uuid7(time_ms, blake2b(text.encode("utf-8", "surrogatepass"), digest_size=10).digest()))


def time_ms_of(report_id: uuid.UUID) -> int:
    """Return the Unix time in milliseconds that a UUIDv7 carries."""
    return report_id.int >> 80
