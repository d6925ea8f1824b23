"""One-time codes as a second factor: time-based (RFC 6238), six digits, a new one every thirty seconds."""

from __future__ import annotations

import hmac
from typing import Final

import pyotp
import segno

PERIOD_MS: Final = 30_000
_EITHER_WAY: Final = 1
"""How many periods the clocks of service and telephone may differ by."""


def new_secret() -> str:
    """Return 160 bits of randomness in base 32, for authenticator apps."""
    return pyotp.random_base32()


def address(secret: str, name: str, service: str) -> str:
    """Return the address that an authenticator app reads from a QR code: ``otpauth://totp/…``."""
    return pyotp.TOTP(secret).provisioning_uri(name=name, issuer_name=f"Obitus {service}")


def picture(text: str) -> str:
    """Return a QR code (ISO/IEC 18004) as a data address of an SVG picture, black on white."""
    return str(segno.make(text, error="m").svg_data_uri(scale=5, border=4, light="#fff"))


def step_of(secret: str, code: str, now_ms: int) -> int | None:
    """Return the period of a code, None where it is valid for none near now."""
    given = code.replace(" ", "")
    now = now_ms // PERIOD_MS
    codes = pyotp.TOTP(secret)
    good = [
        step
        for step in range(now - _EITHER_WAY, now + _EITHER_WAY + 1)
        if hmac.compare_digest(codes.generate_otp(step).encode(), given.encode("utf-8", "replace"))
    ]
    return good[0] if good else None
