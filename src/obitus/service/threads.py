"""Threads of one kind of work: nothing that others wait for takes their turn."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Result = TypeVar("Result")


class Threads:
    """So many threads, each started when it is first needed. The event loop's own are for whatever may take long.

    Those are few, and questions to the records, files and waits for the writer hold them for seconds: who asks, and what
    a small body is worked on with, must not wait for that.
    """

    def __init__(self, count: int, name: str) -> None:
        self._threads = ThreadPoolExecutor(count, thread_name_prefix=name)

    async def do(self, act: Callable[..., Result], *given: object) -> Result:
        """Do something on one of them, and return what comes of it."""
        return await asyncio.get_running_loop().run_in_executor(self._threads, act, *given)

    def close(self) -> None:
        """End them, as soon as what they are at is done."""
        self._threads.shutdown(wait=True, cancel_futures=True)
