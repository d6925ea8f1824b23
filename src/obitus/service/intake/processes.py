"""Worker processes for large bodies, so that small ones never wait for an interpreter. Each is a Python process that
reads one task after the other from its standard input and writes the results to its standard output, both pickled.
A result may come in parts, so that the first can be used while the others are computed.
It ends when its input ends: with the service, however that ends.
"""

from __future__ import annotations

import asyncio
import contextlib
import gc
import logging
import os
import pickle
import queue
import struct
import subprocess
import sys
import threading
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import IO, Any, Final, TypeVar

from obitus.service.settings import NICE

SELDOM: Final = (20_000, 20, 50)
"""Thresholds of the garbage collector (``gc.set_threshold``), high enough for thousands of reports that are prepared together."""
_log = logging.getLogger("obitus.service")

LONGEST_TASK_S: Final = 120.0
LARGE_TASK_S: Final = 0.02
"""CPU time of a task from which a process returns free memory to the system afterwards."""
_SIZE = struct.Struct(">Q")
_SIZES = struct.Struct(">QQ")

_PART, _DONE, _RAISED = range(3)
"""What an answer is: a part of a result, a result, or an exception."""

Yielded = TypeVar("Yielded")
Result = TypeVar("Result")


class ProcessEnded(RuntimeError):
    """A process ended in the middle of a task, or was killed because the task took too long."""


class Processes:
    """A number of processes, each started when it is first needed. Close it to end them."""

    def __init__(self, count: int, *, longest_task_s: float = LONGEST_TASK_S, nice: int = NICE) -> None:
        self.count, self._nice = count, nice
        self._longest_task_s = longest_task_s
        self._threads = ThreadPoolExecutor(count, thread_name_prefix="obitus-process")
        self._idle: queue.LifoQueue[_Process | None] = queue.LifoQueue()
        for _ in range(count):
            self._idle.put(None)
        self._all: set[_Process] = set()
        self._closed = False

    def warm(self) -> None:
        """Start one now, without waiting for it."""
        self._threads.submit(self._work, _nothing, ())

    async def work(self, act: Callable[..., Result], *given: Any) -> tuple[Result, float]:
        """Call a function in a process; return the result and the CPU time in seconds. ``act`` is a function of a
        module; it, its arguments and its result must be picklable. Raises what it raises, and ProcessEnded where the
        process ended before it answered.
        """
        return await asyncio.wrap_future(self._threads.submit(self._work, act, given))

    async def work_in_parts(
        self, on_part: Callable[[Yielded], object], act: Callable[..., Generator[Yielded, None, Result]], *given: Any
    ) -> tuple[Result, float]:
        """The same for a generator function: ``on_part`` gets each value as soon as it is yielded, on a thread of its
        own. What was yielded before a process ended has been given to it.
        """
        return await asyncio.wrap_future(self._threads.submit(self._work, act, given, on_part))

    def do(self, act: Callable[..., Result], *given: Any) -> Result:
        """The same as ``work`` for a caller that is no coroutine."""
        result: Result = self._threads.submit(self._work, act, given).result()[0]
        return result

    @property
    def numbers(self) -> list[int]:
        """The process ids of live ones."""
        return [one.number for one in list(self._all)]

    def close(self) -> None:
        """End all of them; their present tasks are abandoned."""
        self._closed = True
        for process in list(self._all):
            process.end()
        self._threads.shutdown(wait=True, cancel_futures=True)
        for process in list(self._all):
            process.let_go()

    def _work(
        self, act: Callable[..., Any], given: tuple[Any, ...], on_part: Callable[[Any], object] | None = None
    ) -> tuple[Any, float]:
        process = self._idle.get()
        try:
            if process is None:
                if self._closed:
                    raise ProcessEnded("the service is stopping")
                process = _Process(self._nice)
                self._all.add(process)
            became, result, took_s = process.ask((act, given), self._longest_task_s, on_part)
        except BaseException:
            # Also where a part could not be used: the process would go on with a task that nobody reads.
            if process is not None:
                process.end()
                process.let_go()
                self._all.discard(process)
                process = None
            raise
        finally:
            self._idle.put(process)
        if became == _RAISED:
            raise result
        return result, took_s


class _Process:
    """One process, as seen from the service."""

    def __init__(self, nice: int) -> None:
        command = [sys.executable, "-m", "obitus.service.intake.processes", str(nice)]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)  # noqa: S603 - our own module
        self.number = self._process.pid

    def ask(
        self, task: Any, longest_s: float, on_part: Callable[[Any], object] | None = None
    ) -> tuple[int, Any, float]:
        """Run a task; return whether it is done or raised, its result or exception, and its CPU time."""
        assert self._process.stdin is not None and self._process.stdout is not None
        too_long = threading.Timer(longest_s, self._process.kill)
        too_long.daemon = True
        too_long.start()
        try:
            _write(self._process.stdin, task)
            became, value, took_s = _read(self._process.stdout)
            while became == _PART:
                if on_part is not None:
                    on_part(value)
                became, value, took_s = _read(self._process.stdout)
        except (OSError, ValueError, EOFError) as error:
            raise ProcessEnded(f"process {self.number} ended in the middle of a task") from error
        finally:
            too_long.cancel()
        return became, value, took_s

    def end(self) -> None:
        """End it at once."""
        self._process.kill()
        self._process.wait()

    def let_go(self) -> None:
        """Close its pipes."""
        for stream in (self._process.stdin, self._process.stdout):
            assert stream is not None
            # Unsent data has no receiver any more.
            with contextlib.suppress(OSError):
                stream.close()


def _write(stream: IO[bytes], value: Any) -> None:
    """Write a value; large byte strings in it are written without copying."""
    pieces: list[pickle.PickleBuffer] = []
    data = pickle.dumps(value, pickle.HIGHEST_PROTOCOL, buffer_callback=pieces.append)
    stream.write(_SIZES.pack(len(data), len(pieces)))
    stream.write(data)
    for piece in pieces:
        with piece.raw() as raw:
            stream.write(_SIZE.pack(raw.nbytes))
            stream.write(raw)
    stream.flush()


def beside(pieces: Iterable[bytes]) -> list[Any]:
    """Wrap bytes so that they are passed to a process without copying; it gets them as bytes."""
    return [pickle.PickleBuffer(piece) for piece in pieces]


def _read(stream: IO[bytes]) -> Any:
    """Return the next value; raises EOFError at the end."""
    length, count = _SIZES.unpack(_exactly(stream, _SIZES.size))
    data = _exactly(stream, length)
    pieces = [_exactly(stream, _SIZE.unpack(_exactly(stream, _SIZE.size))[0]) for _ in range(count)]
    return pickle.loads(data, buffers=pieces)  # noqa: S301 - it comes from our own process, over a private pipe


def _exactly(stream: IO[bytes], count: int) -> bytes:
    data = stream.read(count)
    if len(data) < count:
        raise EOFError
    return data


def _nothing() -> None:
    """A task that only starts a process."""


def _serve(nice: int) -> None:
    """Run tasks until the input ends. Runs in the process."""
    if hasattr(os, "nice"):
        # Before the imports: these take longer than most tasks.
        os.nice(nice)

    import signal
    import time

    import obitus.service.intake.worker_tasks  # noqa: F401 - what tasks use
    from obitus.service.memory import give_back

    # A Ctrl-C in the terminal is for the service: this process ends with it.
    for kind in (signal.SIGINT, signal.SIGTERM):
        signal.signal(kind, signal.SIG_IGN)
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(levelname)s %(name)s %(message)s")
    gc.collect()
    gc.freeze()
    gc.set_threshold(*SELDOM)
    source, answers = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    # Other output must not get between the answers.
    os.dup2(2, 1)
    while True:
        try:
            act, task = _read(source)
        except EOFError:
            return
        began_s = time.process_time()
        try:
            became, result = _DONE, act(*task)
            if isinstance(result, Generator):
                result = _sent_in_parts(result, answers)
        except Exception as error:
            became, result = _RAISED, error
        took_s = time.process_time() - began_s
        _write(answers, (became, result, took_s))
        # Free this task's memory before the next one comes, which may be long.
        del act, task, result
        if took_s > LARGE_TASK_S:
            give_back()


def _sent_in_parts(parts: Generator[Any, None, Any], answers: IO[bytes]) -> Any:
    """Write each part as soon as it is there; return the result."""
    while True:
        try:
            part = next(parts)
        except StopIteration as end:
            return end.value
        _write(answers, (_PART, part, 0.0))


if __name__ == "__main__":
    _serve(int(sys.argv[1]))
