"""The service's settings as data: each has a name, a default, a unit and one line of help."""

from __future__ import annotations

import os
import ssl
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Final, Literal

MIB: Final = 1024 * 1024


def system_clock_ms() -> int:
    """Return the Unix time in milliseconds."""
    return time.time_ns() // 1_000_000


NICE: Final = 10
"""The nice value of work that people and small bodies need not wait for: the service itself has priority."""


@dataclass(frozen=True)
class Limits:
    """The bounds of what one sender may ask of the service."""

    body_bytes: int = 16 * MIB
    """Most bytes of one request's body as sent (compressed, if it is)."""
    inflated_bytes: int = 32 * MIB
    """Most bytes of one request's body after decompression."""
    line_bytes: int = MIB
    """Most bytes of one report."""
    lines: int = 2000
    """Most reports in one request."""
    body_seconds: float = 30.0
    """Most time a sender may take to send one body."""
    body_idle_seconds: float = 10.0
    """Most time a sender may pause while it sends a body."""
    empty_lines: int = 1000
    """Most lines with nothing in them in one request."""
    frames: int = 2000
    """Most gzip members or zstd frames that one body may be made of."""
    inflates_times: int = 300
    """Largest ratio of a body's size after decompression to its size as sent."""
    inflates_always_bytes: int = 4 * MIB
    """Size to which any body may inflate."""
    form_bytes: int = 256 * 1024
    """Most bytes of a body that a person sends."""
    attached_bytes: int = 2 * MIB
    """Most bytes of a file that is attached to an issue."""
    sign_in_bytes: int = 4 * 1024
    """Most bytes of a sign-in's body: it is read before the sender is known."""
    url_bytes: int = 16 * 1024
    """Most bytes of an address."""
    head_lines: int = 100
    """Most header lines of a request."""
    head_bytes: int = 32 * 1024
    """Most bytes of a request's header lines together."""
    head_seconds: float = 10.0
    """Most time until a request's head is complete; a connection without a request is closed after it."""
    connections: int = 4000
    """Most connections at once, within the system's limit of descriptors. One address may have three in four."""
    refusals_a_second: float = 5.0
    """Refusals a second that one address gets at once; beyond it each answer comes a second later."""
    refusals_at_once: float = 100.0
    """The burst of these."""
    in_flight_bytes: int = 64 * MIB
    """Most bytes of all bodies being read at once; beyond it the answer is 429."""
    in_flight_bytes_of_a_key: int = 48 * MIB
    """Most bytes of these with one key."""
    in_flight_requests: int = 64
    """Most reporting requests at once; beyond it the answer is 429."""
    in_flight_requests_of_a_key: int = 24
    """Most of these with one key."""
    share_of_a_key: float = 0.25
    """Share of a processor that one key may use while others send too; beyond it the answer is 429."""
    burst_seconds: float = 1.0
    """Seconds of work that one key may use at once, even while others send."""
    reports_a_day_of_a_key: int = 100_000_000
    """Most reports with one key in a day, unless set otherwise; a tenth of it with a key for pages."""
    bytes_a_day_of_a_key: int = 20_000_000_000
    """Most bytes of their bodies, as sent."""
    whole_failures_at_once: int = 1000
    """Burst of failures of one issue that are kept whole."""
    whole_failures_a_second: float = 10.0
    """Further ones each second; others are counted, represented by a kept one like them."""
    small_body_bytes: int = 64 * 1024
    """A body of more bytes, sent or inflated, is processed in a worker process."""
    at_work_of_a_key: int = 2
    """Bodies of one key that are processed at the same time; others of it wait."""
    sign_in_attempts: int = 10
    """Most password attempts from one address in five minutes; beyond it the answer is 429. A sign-in link always works."""
    sign_in_attempts_for_a_name: int = 30
    """Most password attempts for one name from anywhere in five minutes."""


@dataclass(frozen=True)
class OpenId:
    """The OpenID Connect provider for signing in."""

    issuer: str
    """Its address, exactly as it calls itself."""
    client_id: str
    client_secret: str = ""
    title: str = "single sign-on"
    """Its title on the sign-in page."""
    joins_as: Literal["member", "reader"] | None = None
    """The role of people of the provider without an invitation; None requires an invitation."""


@dataclass(frozen=True)
class Settings:
    """Settings of one service."""

    data: Path
    """Folder that holds the records."""
    host: str = "127.0.0.1"
    port: int = 8611
    public_url: str | None = None
    """The address at which people and apps reach it, when it is not the one on which it listens."""
    limits: Limits = field(default_factory=Limits)
    processes: int = (os.cpu_count() or 1) + 1
    """Number of worker processes for large bodies, each started when it is needed."""
    nice: int = NICE
    """Their nice value."""
    openid: OpenId | None = None
    codes_for_all: bool = False
    """Whether everybody who has a password must use one-time codes, and sets them up first."""
    tls: ssl.SSLContext | None = None
    """Trusted certificates for mail servers, webhooks and collectors; None for the system's own."""
    proxies: tuple[str, ...] = ()
    """Addresses and networks of proxies in front: only their ``X-Forwarded-For`` is trusted."""
    console_key: str = ""
    """A key for pages, with which the console reports its own failures; '' for none."""
    clock_ms: Callable[[], int] = system_clock_ms
    """The clock; tests and the demo pass another one."""

    @property
    def url(self) -> str:
        """The address to show to people, without a slash at its end."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return (self.public_url or f"http://{host}:{self.port}").rstrip("/")

    @property
    def is_https(self) -> bool:
        """Whether people reach it by https, through a proxy in front."""
        return self.url.startswith("https:")

    @property
    def database(self) -> Path:
        """The file that holds the records."""
        return self.data / "obitus.sqlite3"
