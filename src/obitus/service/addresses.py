"""Where a request comes from, and where the service listens."""

from __future__ import annotations

import ipaddress

from starlette.types import Scope


def address_of(scope: Scope) -> str:
    """Return the address of a request's sender, '' where there is none. Behind a proxy named by ``--proxy`` it is
    the address in the proxy's header, which the server has put there.
    """
    client = scope.get("client")
    if not client:
        return ""
    try:
        return str(ipaddress.ip_address(str(client[0]).partition("%")[0]))
    except ValueError:
        return ""


def is_loopback(host: str) -> bool:
    """Whether a host is reachable from this machine only."""
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
