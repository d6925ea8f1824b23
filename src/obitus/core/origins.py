"""Origins of pages, as browsers write them (HTML standard, *Origin*; RFC 6454)."""

from __future__ import annotations

from urllib.parse import urlsplit

_PORTS = {"http": 80, "https": 443}


def origin_of(text: str) -> str | None:
    """Return an origin as browsers send it, None where the text is none: scheme, host, and the port where it is not the usual one."""
    try:
        found = urlsplit(text.strip())
        port = found.port
    except ValueError:
        return None
    if (
        found.scheme not in _PORTS
        or not found.hostname
        or found.path not in ("", "/")
        or found.query
        or found.fragment
        or found.username
    ):
        return None
    host = found.hostname.encode("idna").decode() if not found.hostname.isascii() else found.hostname
    host = f"[{host}]" if ":" in host else host
    return f"{found.scheme}://{host}" + (f":{port}" if port and port != _PORTS[found.scheme] else "")
