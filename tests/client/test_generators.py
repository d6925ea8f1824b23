"""Decorated generators: they behave as they would without the decorator, and their run is nobody else's."""

from __future__ import annotations

import asyncio
import contextlib
import inspect
from collections.abc import AsyncGenerator, Callable, Generator
from typing import Any

import pytest

import obitus
from obitus.client import runs
from tests.client.conftest import Reported

Item = Any


@pytest.fixture(params=["watching", "off"])
def watching(request: pytest.FixtureRequest) -> bool:
    """Both with reporting and without."""
    if request.param == "watching":
        request.getfixturevalue("reported")
    return bool(request.param == "watching")


def echo(log: list[Any]) -> Callable[[], Generator[Item, Item, str]]:
    def generator() -> Generator[Item, Item, str]:
        given: Any = None
        try:
            while given != "end":
                try:
                    given = yield ("got", given)
                except LookupError as error:
                    log.append(error)
                    given = "thrown"
        finally:
            log.append("closed")
        return "done"

    return generator


def async_echo(log: list[Any]) -> Callable[[], AsyncGenerator[Item, Item]]:
    async def generator() -> AsyncGenerator[Item, Item]:
        given: Any = None
        try:
            while given != "end":
                await asyncio.sleep(0)
                try:
                    given = yield ("got", given)
                except LookupError as error:
                    log.append(error)
                    given = "thrown"
        finally:
            await asyncio.sleep(0)
            log.append("closed")

    return generator


STEPS: list[tuple[str, Any]] = [("send", "a"), ("throw", LookupError("x")), ("send", 2), ("send", "end")]


def driven(made: Callable[[], Generator[Item, Item, str]]) -> list[Any]:
    generator = made()
    seen: list[Any] = [next(generator)]
    for how, what in STEPS:
        try:
            seen.append(generator.send(what) if how == "send" else generator.throw(what))
        except StopIteration as end:
            seen.append(("returned", end.value))
    return seen


async def async_driven(made: Callable[[], AsyncGenerator[Item, Item]]) -> list[Any]:
    generator = made()
    seen: list[Any] = [await anext(generator)]
    for how, what in STEPS:
        try:
            seen.append(await (generator.asend(what) if how == "send" else generator.athrow(what)))
        except StopAsyncIteration:
            seen.append("ended")
    return seen


def test_what_is_sent_and_thrown_arrives(watching: bool) -> None:
    """A decorated generator answers to send, throw and close as the bare one does, and returns what it returns."""
    bare: list[Any] = []
    ours: list[Any] = []
    assert driven(obitus.run("job echo")(echo(ours))) == driven(echo(bare))
    assert [type(entry) for entry in ours] == [type(entry) for entry in bare]
    closed = obitus.run("job echo")(echo(ours))()
    next(closed)
    closed.close()
    assert ours[-1] == "closed" and inspect.isgeneratorfunction(obitus.run("job echo")(echo([])))


def test_what_is_sent_and_thrown_arrives_asynchronously(watching: bool) -> None:
    """The same of an asynchronous one, with asend, athrow and aclose."""
    bare: list[Any] = []
    ours: list[Any] = []

    async def both() -> None:
        assert await async_driven(obitus.run("job echo")(async_echo(ours))) == await async_driven(async_echo(bare))
        closed = obitus.run("job echo")(async_echo(ours))()
        await anext(closed)
        await closed.aclose()

    asyncio.run(both())
    assert [type(entry) for entry in ours] == [*(type(entry) for entry in bare), str]
    assert inspect.isasyncgenfunction(obitus.run("job echo")(async_echo([])))


def test_a_context_manager_under_it_sees_the_exception(watching: bool) -> None:
    """What is raised in the block reaches the decorated generator, which may handle it."""
    seen: list[BaseException] = []

    @contextlib.asynccontextmanager
    @obitus.run("job berth")
    async def berth() -> AsyncGenerator[int, None]:
        try:
            yield 4
        except ValueError as error:
            seen.append(error)

    async def use() -> None:
        async with berth() as number:
            assert number == 4
            raise ValueError("gangway is up")

    asyncio.run(use())
    assert [str(error) for error in seen] == ["gangway is up"]


def test_its_run_is_not_the_consumers(reported: Reported) -> None:
    """Between two items the consumer's run is the current one, and the generator's only while its code runs."""

    @obitus.run("job lines")
    def lines() -> Generator[str | None, None, None]:
        for _ in range(3):
            current = runs.current.get()
            yield current.entry_point if current is not None else None

    with obitus.run("job print"):
        for inside in lines():
            current = runs.current.get()
            assert (inside, current.entry_point if current else None) == ("job lines", "job print")
    assert runs.current.get() is None


@pytest.mark.parametrize(
    "error", [RuntimeError("x"), GeneratorExit(), asyncio.CancelledError(), MemoryError(), BaseException("limit")]
)
def test_how_runs_end(reported: Reported, error: BaseException) -> None:
    """Whatever ends a run is a failure of it, unless somebody called it off."""
    with contextlib.suppress(BaseException), obitus.run("job x"):
        raise error
    called_off = isinstance(error, GeneratorExit | asyncio.CancelledError)
    assert reported.one("tally")["outcome"] == ("refused" if called_off else "failed")
    assert len(reported.all()) == (0 if called_off else 1)
