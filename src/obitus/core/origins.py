"""Origins of pages, as browsers write them (HTML standard, *Origin*; RFC 6454)."""

from __future__ import annotations

from urllib.parse import urlsplit

_PORTS = {"http": 80, "https": 443}


def origin_of(text: str) -> str | None:
    """Return an origin as browsers send it, None where the text is none: scheme, host, and the port where it is not the usual one."""
    try:
        parts = urlsplit(text.strip())
        port = parts.port
    except ValueError:
        return None
    if (
        parts.scheme not in _PORTS
        or not parts.hostname
        or parts.path not in ("", "/")
        or parts.query
        or parts.fragment
        or parts.username
    ):
        return None
    host = parts.hostname.encode("idna").decode() if not parts.hostname.isascii() else parts.hostname
    host = f"[{host}]" if ":" in host else host
    return f"{parts.scheme}://{host}" + (f":{port}" if port and port != _PORTS[parts.scheme] else "")
