"""Requests to addresses that people entered: only public ones, unless the owner's file allows the host; bounded in
time and in bytes. The name is looked up once, and the connection uses the checked address, which prevents DNS
rebinding. A few redirects are followed, each checked in the same way.
"""

from __future__ import annotations

import ipaddress
import socket
import ssl
import time
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Final
from urllib.parse import urljoin, urlsplit

import urllib3

from obitus.service.outward.allowed import AllowedFile, NotAllowed

CONNECT_S: Final = 5.0
READ_S: Final = 10.0
WHOLE_S: Final = 20.0
MOST_REDIRECTS: Final = 3
MOST_BYTES: Final = 64 * 1024
LONGEST_ADDRESS: Final = 2000
_REDIRECTS: Final = frozenset({301, 302, 303, 307, 308})
_FOR_ANY_HOST: Final = frozenset({"content-type", "content-encoding", "user-agent"})
"""Headers that go along when a request is redirected to another host."""
# IPv4 addresses embedded in IPv6: mapped, translated (NAT64), 6to4, Teredo.
_NAT64: Final = ipaddress.ip_network("64:ff9b::/96")


class AskingTrouble(Exception):
    """The request failed, or had no answer in time."""


@dataclass(frozen=True, slots=True)
class Answer:
    """An answer: the status, and the beginning of the body."""

    status: int
    body: bytes
    headers: Mapping[str, str]

    @property
    def is_taken(self) -> bool:
        """Whether the status is a success."""
        return 200 <= self.status < 300

    @property
    def after_s(self) -> float | None:
        """``Retry-After`` in seconds; None where it is missing."""
        after = self.headers.get("retry-after", "")
        return float(after) if after.isascii() and after.isdigit() else None

    def said(self, most_bytes: int = 200) -> str:
        """Return the status, and on the same line the beginning of the body."""
        return f"{self.status} {' '.join(self.body[:most_bytes].decode('utf-8', 'replace').split())}".strip()


def is_public(address: str) -> bool:
    """Whether an IP address is public: not private, of this machine, link-local, or of cloud metadata."""
    ip = ipaddress.ip_address(address.partition("%")[0])
    if isinstance(ip, ipaddress.IPv6Address):
        inner = ip.ipv4_mapped or ip.sixtofour or (ip.teredo[1] if ip.teredo else None)
        if ip in _NAT64:
            inner = ipaddress.IPv4Address(int(ip) & 0xFFFF_FFFF)
        if inner is not None:
            return is_public(str(inner))
    return ip.is_global and not ip.is_multicast


def is_near(address: str) -> bool:
    """Whether an IP address is private or of this machine, but not link-local or multicast."""
    ip = ipaddress.ip_address(address.partition("%")[0])
    return (ip.is_private or ip.is_loopback) and not (ip.is_link_local or ip.is_multicast or ip.is_unspecified)


class Asker:
    """Makes requests to allowed addresses."""

    def __init__(self, allowed: AllowedFile, context: ssl.SSLContext | None = None) -> None:
        self.allowed = allowed
        self._context = context

    @cached_property
    def tls(self) -> ssl.SSLContext:
        """The trusted certificates; read at the first use, since that takes a tenth of a second."""
        return self._context or ssl.create_default_context()

    def check(self, url: str) -> None:
        """Raise AskingTrouble or NotAllowed for an invalid address, without making a request."""
        host, port, _ = _parts(url)
        try:
            ipaddress.ip_address(host)
        except ValueError:
            return
        self._permitted(host, port, host)

    def post(self, url: str, body: bytes, headers: Mapping[str, str], *, near: bool = False) -> Answer:
        """Send a body and return the answer with any status; raises AskingTrouble, NotAllowed. ``near`` as in ``connect``."""
        ends_s = time.monotonic() + WHOLE_S
        urls = {url}
        for _ in range(MOST_REDIRECTS + 1):
            answer = self._once(url, body, headers, ends_s, near=near and len(urls) == 1)
            where = answer.headers.get("location")
            if answer.status not in _REDIRECTS or not where:
                return answer
            onward = urljoin(url, where)
            if urlsplit(url).scheme == "https" and urlsplit(onward).scheme != "https":
                raise AskingTrouble(f"it redirects from https to {_shown(onward)}, which is not followed")
            if onward in urls:
                raise AskingTrouble("it redirects in a circle")
            urls.add(onward)
            # Credentials and signatures for one host are not sent to another. They may be in headers of any name.
            if urlsplit(onward).netloc != urlsplit(url).netloc:
                headers = {name: value for name, value in headers.items() if name.lower() in _FOR_ANY_HOST}
            url = onward
        raise AskingTrouble(f"it redirects more than {MOST_REDIRECTS} times")

    def connect(self, host: str, port: int, *, near: bool = False) -> socket.socket:
        """Return a connection to an allowed address of a host; raises AskingTrouble, NotAllowed. With ``near`` it
        may be private, or of this machine, as for mail servers and collectors; never link-local, as cloud metadata
        is.
        """
        trouble: Exception = AskingTrouble(f"{host} has no address")
        for address in self._addresses(host, port, near=near):
            try:
                return socket.create_connection((address, port), CONNECT_S)
            except OSError as error:
                trouble = AskingTrouble(f"{host} port {port} cannot be reached: {error.strerror or error}")
        raise trouble

    def address(self, host: str, port: int) -> tuple[str, socket.AddressFamily]:
        """Return an allowed address of a host for datagrams, private ones too; raises AskingTrouble, NotAllowed."""
        address = self._addresses(host, port, near=True)[0]
        return address, socket.AF_INET6 if ":" in address else socket.AF_INET

    def _addresses(self, host: str, port: int, *, near: bool = False) -> list[str]:
        """Return the allowed addresses of a host."""
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise AskingTrouble(
                f"the name {host!r} cannot be looked up: {getattr(error, 'strerror', None) or error}"
            ) from None
        addresses = list(dict.fromkeys(str(one[4][0]) for one in found))
        for address in addresses:
            if not (near and is_near(address)):
                self._permitted(host, port, address)
        return addresses

    def _permitted(self, host: str, port: int, address: str) -> None:
        if is_public(address):
            return
        allowed = self.allowed.read()
        if not (allowed.host(host, port) or allowed.host(address, port)):
            raise NotAllowed(
                f'{host} leads to {address}, which is not on the public internet: the owner of the machine allows it with `addresses = ["{host}:{port}"]` in {self.allowed.path}'
            )

    def _once(self, url: str, body: bytes, headers: Mapping[str, str], ends_s: float, *, near: bool) -> Answer:
        host, port, is_tls = _parts(url)
        trouble: Exception = AskingTrouble(f"{host} has no address")
        for address in self._addresses(host, port, near=near):
            try:
                return self._ask(address, host, port, is_tls, url, body, headers, ends_s)
            except (urllib3.exceptions.NewConnectionError, urllib3.exceptions.ConnectTimeoutError) as error:
                trouble = AskingTrouble(f"{host} port {port} cannot be reached: {_reason(error)}")
            except urllib3.exceptions.SSLError as error:
                raise AskingTrouble(f"{host} has no certificate that can be trusted: {_reason(error)}") from None
            except (urllib3.exceptions.HTTPError, OSError) as error:
                raise AskingTrouble(f"{host} broke off: {_reason(error)}") from None
        raise trouble

    def _ask(
        self,
        address: str,
        host: str,
        port: int,
        is_tls: bool,
        url: str,
        body: bytes,
        headers: Mapping[str, str],
        ends_s: float,
    ) -> Answer:
        left_s = ends_s - time.monotonic()
        if left_s <= 0:
            raise AskingTrouble(f"{host} took longer than {WHOLE_S:g} s")
        timeout = urllib3.Timeout(connect=min(CONNECT_S, left_s), read=min(READ_S, left_s))
        pool: urllib3.HTTPConnectionPool
        if is_tls:
            pool = urllib3.HTTPSConnectionPool(
                address,
                port,
                timeout=timeout,
                retries=False,
                server_hostname=host,
                assert_hostname=host,
                ssl_context=self.tls,
            )
        else:
            pool = urllib3.HTTPConnectionPool(address, port, timeout=timeout, retries=False)
        with pool:
            split = urlsplit(url)
            path = (split.path or "/") + (f"?{split.query}" if split.query else "")
            default = 443 if is_tls else 80
            named = f"[{host}]" if ":" in host else host
            all_headers = dict(headers) | {
                "Host": named if port == default else f"{named}:{port}",
                "Accept-Encoding": "identity",
                "Connection": "close",
            }
            answer = pool.urlopen(
                "POST",
                path,
                body,
                all_headers,
                redirect=False,
                preload_content=False,
                decode_content=False,
                assert_same_host=False,
            )
            try:
                return Answer(
                    answer.status,
                    _beginning(answer, ends_s),
                    {name.lower(): value for name, value in answer.headers.items()},
                )
            finally:
                answer.close()


def _beginning(answer: urllib3.BaseHTTPResponse, ends_s: float) -> bytes:
    """Return the beginning of a body; the rest is not read, and neither are bytes that come too slowly."""
    beginning = b""
    while len(beginning) < MOST_BYTES and time.monotonic() < ends_s:
        piece = answer.read1(MOST_BYTES - len(beginning))
        if not piece:
            break
        beginning += piece
    return beginning


def _parts(url: str) -> tuple[str, int, bool]:
    try:
        split = urlsplit(url)
        host, port = split.hostname, split.port
    except ValueError:
        host, port = None, None
    if (
        host is None
        or split.scheme not in ("http", "https")
        or len(url) > LONGEST_ADDRESS
        or any(ord(sign) <= 32 for sign in url)
    ):
        raise AskingTrouble(f"{_shown(url)} is no address that can be asked: https://host/path is expected")
    if split.username or split.password:
        raise AskingTrouble("an address holds no name and password: give them as headers, which are kept encrypted")
    is_tls = split.scheme == "https"
    return host, port or (443 if is_tls else 80), is_tls


def _shown(url: str) -> str:
    """Return an address for display, without its query, which may have a secret."""
    return url.partition("?")[0][:200]


def _reason(error: BaseException) -> str:
    reason = getattr(error, "reason", None) or error
    text = str(reason.args[-1]) if isinstance(reason, BaseException) and reason.args else str(reason)
    return text.rpartition("object at 0x")[2].partition(">: ")[2] or text


__all__ = ["Answer", "Asker", "AskingTrouble", "NotAllowed", "is_public"]
