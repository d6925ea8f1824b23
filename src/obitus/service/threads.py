"""Threads for one kind of work, which other work cannot occupy."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

Result = TypeVar("Result")


class Threads:
    """A number of threads, each started when it is first needed. The event loop's own threads are for work that may
    take long: they are few, and queries, files and waits for the writer occupy them for seconds. Checking who asks,
    and small bodies, must not wait for that.
    """

    def __init__(self, count: int, name: str) -> None:
        self._threads = ThreadPoolExecutor(count, thread_name_prefix=name)

    async def do(self, act: Callable[..., Result], *given: object) -> Result:
        """Call a function on one of them, and return the result."""
        return await asyncio.get_running_loop().run_in_executor(self._threads, act, *given)

    def close(self) -> None:
        """End them, as soon as their present work is done."""
        self._threads.shutdown(wait=True, cancel_futures=True)
