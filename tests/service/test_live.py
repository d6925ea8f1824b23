"""The live stream by itself: listeners that keep up, that do not, that go away; and the end of the service."""

from __future__ import annotations

import asyncio
import json
import socket
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import pytest

from obitus.service import live
from obitus.service.live import MOST_LISTENERS, MOST_OF_A_PASS, MOST_UNREAD, WOKEN_AT_ONCE, Live
from tests.conftest import start, until


async def some(stream: AsyncIterator[str], n: int) -> list[tuple[str, Any]]:
    """Read so many events or more, as many as come in one piece: their names and what they say."""
    found: list[tuple[str, Any]] = []
    while len(found) < n:
        for text in (await asyncio.wait_for(anext(stream), 5)).strip().split("\n\n"):
            lines = dict(line.split(": ", 1) for line in text.split("\n") if not line.startswith("retry"))
            found.append((lines["event"], json.loads(lines["data"])))
    return found


def test_all_listeners_are_told_in_order() -> None:
    """From the loop and from other threads."""

    async def go() -> None:
        stream, loop = Live(), asyncio.get_running_loop()
        stream.publish_from_thread({"type": "nobody listens yet"})
        stream.use_loop(loop)
        listeners = [stream.listen("pass", lambda: True) for _ in range(3)]
        assert [await some(one, 1) for one in listeners] == [[("open", {})]] * 3
        stream.publish({"type": "failures", "issue": 1})
        other = threading.Thread(target=stream.publish_from_thread, args=({"type": "decided", "issue": 2},))
        other.start()
        for one in listeners:
            told = await some(one, 2)
            assert [(name, said["issue"]) for name, said in told] == [("failures", 1), ("decided", 2)]
        other.join()
        await listeners[0].aclose()
        stream.publish({"type": "failures", "issue": 3})
        assert [said["issue"] for _, said in await some(listeners[1], 1)] == [3]

    asyncio.run(go())


def test_who_does_not_keep_up_is_told_to_look_again() -> None:
    """What waits for a listener is bounded; what it missed is said, and the newest are still there."""

    async def go() -> None:
        stream = Live()
        slow = stream.listen("pass", lambda: True)
        await some(slow, 1)
        for number in range(3 * MOST_UNREAD):
            stream.publish({"type": "failures", "issue": number})
        (name, _), *rest = await some(slow, 1)
        assert name == "missed"
        numbers = [said["issue"] for name, said in rest if name == "failures"]
        assert numbers[-1] == 3 * MOST_UNREAD - 1
        assert len(numbers) <= MOST_UNREAD and numbers == sorted(numbers)

    asyncio.run(go())


def test_a_bound_on_listeners_and_a_sign_of_life(monkeypatch: pytest.MonkeyPatch) -> None:
    """Beyond six hundred nobody is let in, and thirty with one session; one that goes makes room.

    Where nothing happens, a comment shows that the stream lives.
    """
    monkeypatch.setattr(live, "HEARTBEAT_S", 0.02)

    async def go() -> None:
        stream = Live()
        passes = [f"pass {number // MOST_OF_A_PASS}" for number in range(MOST_LISTENERS)]
        listeners = [stream.listen(one, lambda: True) for one in passes]
        for number, one in enumerate(listeners):
            assert not stream.is_full(passes[number])
            await anext(one)
            assert stream.is_full("pass 0") == (number >= MOST_OF_A_PASS - 1)
        assert stream.is_full("another")
        await listeners[0].aclose()
        assert not stream.is_full("another") and not stream.is_full("pass 0")
        assert await asyncio.wait_for(anext(listeners[1]), 5) == ": still here\n\n"

    asyncio.run(go())


def test_many_are_woken_a_few_at_a_time() -> None:
    """What else the loop has to do comes in between; what happens meanwhile reaches a listener in one piece."""

    async def go() -> None:
        stream, got = Live(), list[str]()

        async def listen() -> None:
            async for text in stream.listen("pass", lambda: True):
                got.append(text)

        tasks = [asyncio.create_task(listen()) for _ in range(10 * WOKEN_AT_ONCE)]
        while len(got) < len(tasks):
            await asyncio.sleep(0)
        got.clear()
        stream.publish({"type": "failures", "issue": 0})
        most_in_one_turn = 0
        while len(got) < len(tasks):
            before = len(got)
            await asyncio.sleep(0)
            most_in_one_turn = max(most_in_one_turn, len(got) - before)
        assert most_in_one_turn <= WOKEN_AT_ONCE
        got.clear()
        for number in range(1, 6):
            stream.publish({"type": "failures", "issue": number})
        while len(got) < len(tasks):
            await asyncio.sleep(0.001)
        assert {text.count("data: ") for text in got} == {5}
        stream.close()
        await asyncio.gather(*tasks)

    asyncio.run(go())


@pytest.mark.parametrize("unread", [0, MOST_UNREAD + 1], ids=["that keeps up", "that does not"])
def test_the_end(unread: int) -> None:
    """When the service stops every stream ends, also from another thread; and nothing is told after."""

    async def go() -> None:
        stream = Live()
        stream.close_from_thread()
        stream.use_loop(asyncio.get_running_loop())
        one = stream.listen("pass", lambda: True)
        await some(one, 1)
        for number in range(unread):
            stream.publish({"type": "failures", "issue": number})
        threading.Thread(target=stream.close_from_thread).start()

        async def drain() -> int:
            return sum([1 async for _ in one])

        assert await asyncio.wait_for(drain(), 5) <= unread
        stream.publish_from_thread({"type": "failures", "issue": 0})
        assert [text async for text in stream.listen("pass", lambda: True)] == [
            "retry: 1000\nevent: open\ndata: {}\n\n"
        ]

    asyncio.run(go())


def test_who_reads_nothing_is_let_go(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A listener that takes nothing for a while is cut off, and makes room for another one; who reads stays."""
    monkeypatch.setattr("obitus.service.live.UNREAD_S", 0.5)
    thread, running = start(tmp_path)
    head = f"GET /api/live HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {running.token}\r\n\r\n".encode()
    port = int(running.url.rpartition(":")[2])
    deaf = socket.create_connection(("127.0.0.1", port))
    deaf.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
    deaf.sendall(head)
    listening = running.http.request(
        "GET", running.url + "/api/live", headers={"Authorization": f"Bearer {running.token}"}, preload_content=False
    )
    stream = running.service.live
    try:
        until(lambda: stream.listeners == 2)
        message = {"type": "reports", "said": "x" * 50_000}

        def told() -> bool:
            stream.publish_from_thread(message)
            return stream.listeners == 1

        reader = threading.Thread(target=lambda: [None for _ in iter(listening.read1, b"")], daemon=True)
        reader.start()
        until(told)
    finally:
        deaf.close()
        running.http.clear()
        thread.stop()
        listening.release_conn()


class Wired:
    """A connection that keeps what is written to it, and may be behind."""

    def __init__(self) -> None:
        self.written, self.behind, self.cut, self.closed = b"", 0, False, False

    def write(self, data: bytes) -> None:
        if self.closed:
            raise RuntimeError("the handler is closed")
        self.written += data

    def get_write_buffer_size(self) -> int:
        return self.behind

    def abort(self) -> None:
        self.cut = True

    def heard(self) -> list[int]:
        """Return which issues the chunks speak of, in order; what is no whole chunk is an error."""
        rest, found = self.written, list[int]()
        while rest:
            size, _, rest = rest.partition(b"\r\n")
            piece, end, rest = rest[: int(size, 16)], rest[int(size, 16) :][:2], rest[int(size, 16) + 2 :]
            assert end == b"\r\n"
            found += [
                json.loads(line[6:])["issue"] for line in piece.decode().splitlines() if line.startswith("data: ")
            ]
        return found


@asynccontextmanager
async def seventy_waiting() -> AsyncIterator[tuple[Live, list[Wired], list[asyncio.Future[str]]]]:
    """Give a stream, the connections of seventy listeners, and what they wait for: meanwhile their connections are written to."""
    stream, wires = Live(), [Wired() for _ in range(70)]
    listeners = [stream.listen(f"pass {place % 9}", lambda: True, wire=wire) for place, wire in enumerate(wires)]
    for one in listeners:
        await some(one, 1)
    waiting = [asyncio.ensure_future(anext(one)) for one in listeners]
    await asyncio.sleep(0)
    yield stream, wires, waiting
    for one in waiting:
        one.cancel()
    await asyncio.gather(*waiting, return_exceptions=True)


def test_what_happens_is_written_to_connections(monkeypatch: pytest.MonkeyPatch) -> None:
    """A listener that waits is written to, in order and as whole chunks; what is yielded in between keeps its place.

    One that is behind is written nothing until it reads again, and is cut off where it does not.
    """
    monkeypatch.setattr(live, "UNREAD_S", 0.3)
    monkeypatch.setattr(live, "ROUND_EVERY_S", 0.01)

    async def go() -> None:
        async with seventy_waiting() as (stream, wires, waiting):
            for number in range(200):
                stream.publish({"type": "failures", "issue": number})
                if number % 20 == 0:
                    await asyncio.sleep(0.02)
            async with asyncio.timeout(20):
                while not all(wire.heard() == list(range(200)) for wire in wires[1:]):
                    await asyncio.sleep(0.01)
            assert not any(one.done() for one in waiting)
            slow = wires[1]
            slow.behind = live.MOST_BEHIND + 1
            stream.publish({"type": "failures", "issue": 200})
            await asyncio.sleep(0.1)
            assert slow.heard()[-1] == 199 and wires[2].heard()[-1] == 200
            slow.behind = 0
            async with asyncio.timeout(20):
                while slow.heard()[-1] != 200:
                    await asyncio.sleep(0.01)
            slow.behind = live.MOST_BEHIND + 1
            stream.publish({"type": "failures", "issue": 201})
            async with asyncio.timeout(20):
                while not slow.cut:
                    await asyncio.sleep(0.01)
            assert not any(wire.cut for wire in wires if wire is not slow)

    asyncio.run(go())


def test_a_connection_that_has_just_closed_stops_nobody(monkeypatch: pytest.MonkeyPatch) -> None:
    """Writing to it raises: whoever publishes does not hear of it, and all others get this event and the next."""
    monkeypatch.setattr(live, "ROUND_EVERY_S", 0.01)

    async def go() -> None:
        async with seventy_waiting() as (stream, wires, _):
            closed = {0, 40, 69}
            for place in closed:
                wires[place].closed = True
            others = [wire for place, wire in enumerate(wires) if place not in closed]
            for number in range(3):
                stream.publish({"type": "failures", "issue": number})
                async with asyncio.timeout(20):
                    while not all(wire.heard() == list(range(number + 1)) for wire in others):
                        await asyncio.sleep(0.01)

    asyncio.run(go())


def test_the_service_writes_to_its_connections(tmp_path: Path) -> None:
    """Over HTTP a listener is one that is written to, and the stream is what any client reads."""
    thread, running = start(tmp_path)
    stream = running.service.live
    try:
        listening = running.http.request(
            "GET",
            running.url + "/api/live",
            headers={"Authorization": f"Bearer {running.token}"},
            preload_content=False,
        )
        until(lambda: any(one.wire is not None for one in list(stream._listeners)))
        for number in range(50):
            stream.publish_from_thread({"type": "failures", "issue": number})
        text = b""
        while b'"issue": 49' not in text:
            text += listening.read1(65536)
        said = [json.loads(line[6:]) for line in text.decode().split("\n") if line.startswith('data: {"type')]
        assert [one["issue"] for one in said] == list(range(50))
    finally:
        running.http.clear()
        thread.stop()
        listening.release_conn()
