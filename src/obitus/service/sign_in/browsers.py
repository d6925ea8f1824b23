"""The name of a browser in the list of sessions: from its ``User-Agent`` and its address."""

from __future__ import annotations

from typing import Final

# In this order: most name several browsers.
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
