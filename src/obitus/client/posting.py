"""One connection to the service: HTTP/1.1 (RFC 9112) with time limits of its own.

No library is used: importing one takes a tenth of a second and imports TLS, which a library of greenlets must
replace first; and the descriptor has to be checked before each use (see ``spool``).
"""

from __future__ import annotations

import socket
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Final, TypeVar
from urllib.parse import urlsplit

from obitus.client.native import Socket, getaddrinfo, monotonic
from obitus.client.own_files import file_of

Result = TypeVar("Result")
MOST_HEAD_BYTES: Final = 64 * 1024
MOST_ANSWER_BYTES: Final = 4 * 1024 * 1024


class PostTrouble(OSError):
    """Raised where no answer came, or no valid HTTP; says why. The request may have arrived nevertheless."""


class CannotConnect(PostTrouble):
    """Raised where no connection was made: refused, name unknown, or not within the time given."""


@dataclass(frozen=True)
class Answer:
    """An answer."""

    status: int
    headers: dict[str, str]
    """By name in lower case."""
    body: bytes


class Connection:
    """A connection that is kept between requests. Used by one thread at a time."""

    def __init__(self, url: str) -> None:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise ValueError(f"{url!r} is no http:// or https:// address")
        self._tls: Any = None
        if parts.scheme == "https":
            import ssl

            self._tls = ssl.create_default_context()
            "".encode("idna")  # its module, which is wanted for server names, is loaded here and not on a thread
        self._name = parts.hostname
        self._host: str | bytes = self._name.encode("ascii") if self._name.isascii() else self._name
        if not self._name.isascii():
            "".encode("idna")
        self._port = parts.port or (443 if self._tls is not None else 80)
        shown = f"[{self._name}]" if ":" in self._name else self._name
        self._host_header = shown if parts.port is None else f"{shown}:{parts.port}"
        self._target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        self._socket: Any = None
        self._file: tuple[int, int] | None = None
        self._answered: Any = None
        """The address of the latest connection."""

    def post(self, body: bytes, headers: dict[str, str], connect_s: float, whole_s: float) -> Answer:
        """Send a body and return the answer. Raises PostTrouble.

        ``connect_s`` is the longest time for connecting, ``whole_s`` for everything.
        """
        return self.request("POST", body, headers, connect_s, whole_s)

    def request(self, method: str, body: bytes, headers: dict[str, str], connect_s: float, whole_s: float) -> Answer:
        """Ask with any method, as ``post`` does."""
        ends = monotonic() + whole_s
        request = self._request(method, body, headers)
        return self._once_more_where_kept(lambda: self._exchange(request, connect_s, ends), ends)

    @property
    def descriptor(self) -> int:
        """The connection's descriptor; -1 where there is none."""
        return self._socket.fileno() if self._usable() else -1

    def begin(self, method: str, body: bytes, headers: dict[str, str], connect_s: float, whole_s: float) -> None:
        """Send a request and leave its answer for ``finish``. Raises PostTrouble."""
        ends = monotonic() + whole_s
        request = self._request(method, body, headers)
        self._once_more_where_kept(lambda: self._send(request, connect_s, ends), ends)

    def finish(self, whole_s: float) -> Answer:
        """Read the answer to what ``begin`` sent. Raises PostTrouble."""
        if self._socket is None:
            raise PostTrouble("the connection was closed")
        try:
            return self._read(monotonic() + whole_s)
        except PostTrouble:
            raise
        except (OSError, ValueError) as error:
            raise PostTrouble(f"{type(error).__name__}: {error}") from error

    def close(self) -> None:
        """Close the connection, unless its descriptor has been reused by the app."""
        opened, self._socket = self._socket, None
        if opened is None:
            return
        try:
            if file_of(opened.fileno()) == self._file:
                opened.close()
            else:
                opened.detach()
        except (OSError, ValueError):
            opened.detach()

    def forget(self) -> None:
        """In a forked child: close the parent's connection without sending anything."""
        self.close()

    def _usable(self) -> bool:
        if self._socket is None:
            return False
        try:
            if file_of(self._socket.fileno()) == self._file:
                return True
        except (OSError, ValueError):
            pass
        self.close()
        return False

    def _request(self, method: str, body: bytes, headers: dict[str, str]) -> bytes:
        head = f"{method} {self._target} HTTP/1.1\r\nHost: {self._host_header}\r\nContent-Length: {len(body)}\r\n"
        head += "".join(f"{name}: {value}\r\n" for name, value in headers.items()) + "\r\n"
        return head.encode("latin-1", "replace") + body

    def _once_more_where_kept(self, act: Callable[[], Result], ends: float) -> Result:
        """Do something with the connection; once more on a new one, where a kept one turns out to be closed."""
        kept = self._usable()
        try:
            return act()
        except PostTrouble as trouble:
            self.close()
            # The service may have closed a kept connection meanwhile: then it has not seen the request.
            if not kept or isinstance(trouble, CannotConnect) or monotonic() >= ends:
                raise
        try:
            return act()
        except PostTrouble:
            self.close()
            raise

    def _exchange(self, request: bytes, connect_s: float, ends: float) -> Answer:
        self._send(request, connect_s, ends)
        return self.finish(ends - monotonic())

    def _send(self, request: bytes, connect_s: float, ends: float) -> None:
        if self._socket is None:
            self._connect(min(connect_s, ends - monotonic()))
        try:
            self._limit(ends)
            self._socket.sendall(request)
        except PostTrouble:
            raise
        except (OSError, ValueError) as error:
            raise PostTrouble(f"{type(error).__name__}: {error}") from error

    def _connect(self, timeout_s: float) -> None:
        ends = monotonic() + max(0.01, timeout_s)
        trouble: Exception | None = None
        try:
            places = getaddrinfo(self._host, self._port, 0, socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise CannotConnect(f"{type(error).__name__}: {error}") from error
        # The one that answered last comes first: others may have no route, as IPv6 often has none.
        places.sort(key=lambda place: place[4] != self._answered)
        for number, (family, kind, protocol, _, address) in enumerate(places):
            opened = None
            try:
                opened = Socket(family, kind, protocol)
                # One that does not answer at all must leave time for the others.
                opened.settimeout(max(0.01, (ends - monotonic()) / (len(places) - number)))
                opened.connect(address)
                opened.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                if self._tls is not None:
                    opened = self._tls.wrap_socket(opened, server_hostname=self._name)
                self._socket, self._file, self._answered = opened, file_of(opened.fileno()), address
                return
            except (OSError, ValueError) as error:
                trouble = error
                if opened is not None:
                    opened.close()
        raise CannotConnect(f"{type(trouble).__name__}: {trouble}") from trouble

    def _limit(self, ends: float) -> None:
        left_s = ends - monotonic()
        if left_s <= 0:
            raise PostTrouble("no answer within the time limit")
        self._socket.settimeout(left_s)

    def _read(self, ends: float) -> Answer:
        buffer = bytearray()
        while True:
            while b"\r\n\r\n" not in buffer:
                if len(buffer) > MOST_HEAD_BYTES:
                    raise PostTrouble("the answer's head has no end")
                self._more(buffer, ends)
            head, _, rest = bytes(buffer).partition(b"\r\n\r\n")
            buffer = bytearray(rest)
            lines = head.decode("latin-1").split("\r\n")
            words = lines[0].split(" ", 2)
            if len(words) < 2 or not words[0].startswith("HTTP/1.") or not words[1].isdigit():
                raise PostTrouble("the answer is not HTTP")
            if not words[1].startswith("1"):
                break
        fields = (line.partition(":") for line in lines[1:])
        headers = {name.strip().lower(): value.strip() for name, _, value in fields}
        body, whole = self._body(int(words[1]), headers, buffer, ends)
        if not whole or headers.get("connection", "").lower() == "close" or words[0] == "HTTP/1.0":
            self.close()
        return Answer(int(words[1]), headers, body)

    def _body(self, status: int, headers: dict[str, str], buffer: bytearray, ends: float) -> tuple[bytes, bool]:
        """Return the answer's body, and whether the connection can be used again."""
        if status in (204, 304):
            return b"", not buffer
        if "chunked" in headers.get("transfer-encoding", "").lower():
            return self._chunks(buffer, ends), True
        length = headers.get("content-length", "")
        if length.isdigit():
            if int(length) > MOST_ANSWER_BYTES:
                raise PostTrouble("the answer is too long")
            while len(buffer) < int(length):
                self._more(buffer, ends)
            return bytes(buffer[: int(length)]), len(buffer) == int(length)
        while len(buffer) <= MOST_ANSWER_BYTES:
            try:
                self._more(buffer, ends)
            except EOFError:
                break
        return bytes(buffer), False

    def _chunks(self, buffer: bytearray, ends: float) -> bytes:
        """Return the body of an answer in chunks (RFC 9112, section 7.1)."""
        body = bytearray()
        while True:
            while b"\r\n" not in buffer:
                self._more(buffer, ends)
            size_text, _, rest = bytes(buffer).partition(b"\r\n")
            try:
                size = int(size_text.partition(b";")[0], 16)
            except ValueError:
                raise PostTrouble("the answer's chunks cannot be read") from None
            buffer[:] = rest
            if size == 0:
                while b"\r\n" not in buffer:
                    self._more(buffer, ends)
                if not buffer.startswith(b"\r\n"):
                    # Trailers: nothing more is read on this connection.
                    self.close()
                return bytes(body)
            while len(buffer) < size + 2:
                self._more(buffer, ends)
            body += buffer[:size]
            del buffer[: size + 2]
            if len(body) > MOST_ANSWER_BYTES:
                raise PostTrouble("the answer is too long")

    def _more(self, buffer: bytearray, ends: float) -> None:
        self._limit(ends)
        piece = self._socket.recv(65536)
        if not piece:
            raise _Ended("the connection was closed before the answer was whole")
        buffer += piece


class _Ended(PostTrouble, EOFError):
    """Raised where the service closed the connection; the end of an answer that does not say how long it is."""
