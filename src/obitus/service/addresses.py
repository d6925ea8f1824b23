"""Where a request comes from, and where the service listens."""

from __future__ import annotations

import ipaddress

from starlette.types import Scope


def address_of(scope: Scope) -> str:
    """Return the address that a request comes from, '' where it is none.

    Behind a proxy that the owner named (``--proxy``) it is the one that the proxy says, which the server has put there.
    """
    client = scope.get("client")
    if not client:
        return ""
    try:
        return str(ipaddress.ip_address(str(client[0]).partition("%")[0]))
    except ValueError:
        return ""


def is_loopback(host: str) -> bool:
    """Whether a host is reached from this machine only."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def is_proxy(text: str) -> bool:
    """Whether a text names proxies: an address, or a net such as ``10.0.0.0/8``."""
    try:
        ipaddress.ip_network(text)
    except ValueError:
        return False
    return True
