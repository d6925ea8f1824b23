"""What answers outside of the line's apps, and after how long: the story's tide service, harbour office and sailings' own address.

Only recording needs it: the apps ask with a real HTTP client, whose last step is taken here instead of on a wire.
"""

from __future__ import annotations

from collections.abc import Callable
from zlib import crc32

import httpx

SECOND_TRY_FASTER_MS = 170
"""The second time the tide service has its answer at hand, mostly."""


class Network:
    """Answers requests of one player. ``waits`` moves its clock on by milliseconds."""

    def __init__(self, waits: Callable[[int], None]) -> None:
        self._waits = waits
        self.sailings_answers = 201
        """What sailings answers to the page on the pier next, as the story has it."""

    def install(self) -> None:
        """Have httpx end here."""

        def handle_request(_: httpx.HTTPTransport, request: httpx.Request) -> httpx.Response:
            return self._answer(request)

        setattr(httpx.HTTPTransport, "handle_request", handle_request)  # noqa: B010 - methods are not assigned to

    def _answer(self, request: httpx.Request) -> httpx.Response:
        if request.url.host == "tides.skerry.example":
            return self._depth(request)
        if request.url.host == "sailings.skerry.example":
            self._wait(request, 30 + crc32(request.content) % 60)
            return httpx.Response(self.sailings_answers, json={})
        self._wait(request, 40 + crc32(request.content) % 120)
        return httpx.Response(202, json={})

    def _depth(self, request: httpx.Request) -> httpx.Response:
        params = request.url.params
        wait_ms = int(params["sailing"][-2:]) * 10 - (SECOND_TRY_FASTER_MS if "again" in params else 0)
        self._wait(request, max(5, wait_ms))
        return httpx.Response(200, json={"depth_m": 6.4})

    def _wait(self, request: httpx.Request, wait_ms: int) -> None:
        patience_ms = int((request.extensions["timeout"]["read"] or 60) * 1000)
        self._waits(min(wait_ms, patience_ms))
        if wait_ms > patience_ms:
            raise httpx.ReadTimeout("no answer in time", request=request)
