"""What a browser is called in the list of sessions: by what it says of itself, and from where it was signed in."""

from __future__ import annotations

from typing import Final

# In this order: most say of themselves that they are several.
_BROWSERS: Final = (
    ("Firefox/", "Firefox"),
    ("Edg/", "Edge"),
    ("OPR/", "Opera"),
    ("Chrome/", "Chromium"),
    ("Safari/", "Safari"),
)
_SYSTEMS: Final = (("Android", "Android"), ("iPhone", "iOS"), ("iPad", "iPadOS"), ("Windows", "Windows"), ("Mac OS", "macOS"), ("Linux", "Linux"))  # fmt: skip


def browser_label(user_agent: str, address: str) -> str:
    """Return such as ``Firefox on Linux, from 192.0.2.7``."""
    browser = next((name for sign, name in _BROWSERS if sign in user_agent), "a browser")
    system = next((f" on {name}" for sign, name in _SYSTEMS if sign in user_agent), "")
    return f"{browser}{system}, from {address or 'somewhere'}"
