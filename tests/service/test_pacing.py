"""When people's requests begin while reports come in: in whose order, and that all of them do."""

from __future__ import annotations

import asyncio
import functools
from collections.abc import Callable, Coroutine
from typing import Any

import pytest

from obitus.service import pacing
from obitus.service.pacing import AT_ONCE, Pace


def on_a_loop(test: Callable[..., Coroutine[Any, Any, None]]) -> Callable[..., None]:
    """Return a test that runs on an event loop of its own."""

    @functools.wraps(test)
    def running(*args: Any, **kwargs: Any) -> None:
        asyncio.run(test(*args, **kwargs))

    return running


def begun(pace: Pace, addresses: list[str]) -> tuple[list[str], Coroutine[Any, Any, None]]:
    """Let a request from each address ask for its turn, in order; return the list that those are put into that have begun, and what lets them ask."""
    found: list[str] = []

    async def one(address: str) -> None:
        await pace.turn(address)
        found.append(address)

    async def all_of_them() -> None:
        await asyncio.gather(*map(one, addresses))

    return found, all_of_them()


async def in_one_moment(asking: Coroutine[Any, Any, None], *, sent: Pace | None = None) -> asyncio.Task[None]:
    """Let a report come, if a pace is given, and all of them ask while the loop's clock stands: however busy the machine is, no time goes by between the first and the last."""
    loop = asyncio.get_running_loop()
    now_s = loop.time()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(loop, "time", lambda: now_s)
        if sent:
            sent.sent()
        task = asyncio.create_task(asking)
        await asyncio.sleep(0)
        await asyncio.sleep(0)
    return task


@on_a_loop
async def test_nobody_waits_where_nobody_sends() -> None:
    """However many come at once."""
    found, asking = begun(Pace(), ["pier"] * 200)
    task = await in_one_moment(asking)
    assert len(found) == 200
    await task


@on_a_loop
async def test_a_page_begins_at_once() -> None:
    """Only what comes beyond it waits, and begins by itself."""
    pace = Pace()
    found, asking = begun(pace, ["pier"] * (AT_ONCE + 30))
    task = await in_one_moment(asking, sent=pace)
    assert len(found) == AT_ONCE
    await task
    assert len(found) == AT_ONCE + 30


@on_a_loop
async def test_one_address_holds_up_itself_alone() -> None:
    """Who comes behind three hundred of another begins behind one or two of them."""
    pace = Pace()
    found, asking = begun(pace, ["greedy"] * 300 + ["pier", "deck"])
    await (await in_one_moment(asking, sent=pace))
    assert len(found) == 302
    assert found.index("pier") <= AT_ONCE + 2 and found.index("deck") <= AT_ONCE + 3


@on_a_loop
async def test_who_asks_seldom_does_not_wait() -> None:
    """The first request of an address begins at once while others wait, its second does not; nor do those of ever more addresses."""
    pace = Pace()
    many = [f"deck {number}" for number in range(3 * AT_ONCE)]
    found, asking = begun(pace, ["greedy"] * 300 + ["pier", "pier", *many])
    task = await in_one_moment(asking, sent=pace)
    assert found == ["greedy"] * AT_ONCE + ["pier", *many[: AT_ONCE - 1]]
    await task
    assert len(found) == 302 + len(many)
    assert found.index("pier", AT_ONCE + 1) < 2 * AT_ONCE + len(many)


@on_a_loop
async def test_it_knows_no_more_addresses_than_it_has_to() -> None:
    """Strangers have as many as they like."""
    pace = Pace()
    found, asking = begun(pace, [f"deck {number}" for number in range(3 * pacing.MOST_ADDRESSES)])
    await asking
    assert len(found) == 3 * pacing.MOST_ADDRESSES and len(pace._started_s) == pacing.MOST_ADDRESSES


@on_a_loop
async def test_whoever_has_gone_holds_nobody_up() -> None:
    """A request that was given up while it waited takes nobody's turn for ever."""
    pace = Pace()
    first: list[asyncio.Task[None]] = []

    async def ask() -> None:
        first.extend(asyncio.create_task(pace.turn("pier")) for _ in range(AT_ONCE + 20))

    await (await in_one_moment(ask(), sent=pace))
    for one in first[AT_ONCE:-1]:
        one.cancel()
    await first[-1]
    await pace.turn("pier")
    assert sum(one.cancelled() for one in first) == 19


@on_a_loop
async def test_very_many_begin_closer_together(monkeypatch: pytest.MonkeyPatch) -> None:
    """All begin in about the same time, how many ever there are: what they wait for each other gets shorter."""
    gaps: list[float] = []
    loop = asyncio.get_running_loop()
    later = loop.call_later

    def noted(delay: float, *rest: Any, **more: Any) -> asyncio.TimerHandle:
        gaps.append(delay)
        return later(0, *rest, **more)

    monkeypatch.setattr(loop, "call_later", noted)
    pace = Pace()
    found, asking = begun(pace, ["pier"] * 5_000)
    await (await in_one_moment(asking, sent=pace))
    assert len(found) == 5_000
    assert max(gaps) == pacing.EVERY_S and min(gaps) < pacing.EVERY_S / 10
    assert gaps[1:] == sorted(gaps[1:])
