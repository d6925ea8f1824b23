"""Caching results for texts, without keeping long ones. Standard library only: the client uses this too."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache, wraps
from typing import TypeVar

Returned = TypeVar("Returned")


def remembered(most: int, longest: int = 400) -> Callable[[Callable[..., Returned]], Callable[..., Returned]]:
    """Return a decorator that caches ``most`` results, for texts with at most ``longest`` characters together. The
    sender chooses the length of a text: thousands of long ones would fill the memory, and long ones hardly ever
    repeat.
    """

    def around(function: Callable[..., Returned]) -> Callable[..., Returned]:
        known = lru_cache(most)(function)

        @wraps(function)
        def answer(*texts: str) -> Returned:
            return known(*texts) if sum(map(len, texts)) <= longest else function(*texts)

        return answer

    return around
