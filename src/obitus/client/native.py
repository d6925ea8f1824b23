"""Threads and sockets of the operating system, also in a process that has replaced them by cooperative ones.
Libraries of greenlets replace Python's threads, locks and sockets. The client's background threads must not take
turns with the app's greenlets, so they use the originals.
"""

from __future__ import annotations

import _queue
import _thread
import select
import signal
import socket
import sys
import time
from collections.abc import Callable
from types import ModuleType
from typing import Any, Final

from obitus.client import state
from obitus.client.exception_origin import is_the_apps


def _original(module: ModuleType, name: str) -> Any:
    """Return a module's original attribute from before a library of greenlets replaced it."""
    monkey = sys.modules.get("gevent.monkey")
    if monkey is not None:
        try:
            return monkey.get_original(module.__name__, name)
        except Exception:
            return getattr(module, name)
    return getattr(module, name)


start_new_thread: Final = _original(_thread, "start_new_thread")
allocate_lock: Final = _original(_thread, "allocate_lock")
get_ident: Final = _original(_thread, "get_ident")
sleep: Final = _original(time, "sleep")
Socket: Final = _original(socket, "socket")
getaddrinfo: Final = _original(socket, "getaddrinfo")
monotonic: Final = time.monotonic
Signals: Final = _queue.SimpleQueue
"""A queue whose ``put`` takes no lock, so that a signal handler or a finalizer may call it at any time."""

# Bound here: at the very end of the interpreter ``sys`` may be gone.
is_finalizing: Final = sys.is_finalizing

_NOT_BLOCKED: Final = ("SIGSEGV", "SIGBUS", "SIGFPE", "SIGILL", "SIGABRT", "SIGTRAP", "SIGSYS")
"""Signals for errors of the thread itself: if they are blocked, they end the process without the app's handler."""


def is_readable(descriptor: int) -> bool:
    """Whether reading from a descriptor would not wait; True also where it is closed."""
    try:
        if hasattr(select, "poll") or "gevent.monkey" in sys.modules:
            poll = _original(select, "poll")()
            poll.register(descriptor, select.POLLIN)
            return bool(poll.poll(0))
        return bool(_original(select, "select")([descriptor], [], [], 0)[0])
    except (OSError, ValueError, AttributeError):
        return True


def _start_without_signals(run: Callable[..., None], *given: Any, begun: list[int]) -> None:
    """Start a thread that leaves all signals to the app's threads; its number is added to ``begun`` once it is there.

    One that the app has blocked in its own threads, to wait for it or to finish something first, would otherwise be
    delivered to the client's thread, and end the process there and then. A thread has the mask of the one that starts
    it: so there is no moment at which it would take one. What comes meanwhile waits until this one has its mask again.
    """
    if not hasattr(signal, "pthread_sigmask"):
        begun.append(start_new_thread(run, given))
        return
    own = {getattr(signal, name, None) for name in _NOT_BLOCKED}
    before = signal.pthread_sigmask(signal.SIG_BLOCK, ())
    try:
        signal.pthread_sigmask(signal.SIG_BLOCK, signal.valid_signals() - own)
        begun.append(start_new_thread(run, given))
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


class Worker:
    """A background thread that can be woken, paused, and started again."""

    def __init__(self, name: str, serve: Callable[[], None]) -> None:
        self._name = name
        self._serve = serve
        self._signals: _queue.SimpleQueue[None] = Signals()
        self._ended = allocate_lock()
        self._asleep = False
        self.running = False
        self.told_to_rest = False

    def start(self) -> bool:
        """Start the thread unless it runs; return whether it runs now. At the end of the interpreter none is started."""
        if self.running:
            return True
        if is_finalizing():
            return False
        self.running = True
        self.told_to_rest = False
        ended = self._ended = allocate_lock()
        ended.acquire()
        begun: list[int] = []
        try:
            _start_without_signals(self._run, ended, begun=begun)
        except BaseException as interrupted:
            # It may have started even if a signal handler of the app raises here.
            if not begun:
                self.running = False
                ended.release()
            if not isinstance(interrupted, RuntimeError) or is_the_apps(interrupted):
                raise
            # The interpreter is shutting down, or the system has no more threads.
            return bool(begun)
        return True

    def wake(self) -> None:
        """Wake the thread where it waits. Never blocks, takes no lock."""
        if self._asleep:
            self._asleep = False
            self._signals.put(None)

    def wait(self, timeout_s: float | None, wanted: Callable[[], Any]) -> None:
        """On the thread: wait until it is woken, the time is up, or ``wanted`` returns true."""
        self._asleep = True
        if self.told_to_rest or wanted():
            self._asleep = False
            return
        try:
            self._signals.get(True, timeout_s)
        except _queue.Empty:
            pass
        self._asleep = False

    def rest(self, timeout_s: float) -> bool:
        """Ask the thread to end at the next point where it can; return whether it did within the time given."""
        if not self.running:
            return True
        self.told_to_rest = True
        self._asleep = False
        self._signals.put(None)
        if getattr(state.ours, "working", False):
            return False
        return self.join(timeout_s)

    def join(self, timeout_s: float) -> bool:
        """Wait until the thread has ended, for as long as the time given; return whether it has."""
        ended = self._ended
        if ended.acquire(True, max(0.0, timeout_s)):
            ended.release()
            return True
        return False

    def _run(self, ended: Any) -> None:
        state.ours.working = True
        try:
            self._serve()
        finally:
            self.running = False
            ended.release()
