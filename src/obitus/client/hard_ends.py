"""Hard ends: what a killed or crashed process leaves for the next start to report.

While a process lives it holds a lock on ``<name>.life``. Beside it are ``<name>.story``, the open runs with their
trails, rewritten about once a second while there are any, and ``<name>.crash``, where ``faulthandler`` writes if the
interpreter crashes. A clean end removes all three. The next start finds those whose
lock is free, and reports them.
"""

from __future__ import annotations

import contextlib
import faulthandler
import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import IO, Any, Final

from obitus.client.locks import open_locked
from obitus.client.own_files import file_of, make_own

MOST_LOOKED_AT: Final = 200
MOST_STORY_BYTES: Final = 2_000_000

Story = dict[str, Any]


# Calls of the app under these names are watched (see ``hooks``); these are the original functions.
_enable: Final = faulthandler.enable
_disable: Final = faulthandler.disable
_lost: Final[list[IO[bytes]]] = []


class Life:
    """The marks of one living process in a folder."""

    def __init__(self, folder: Path, family: str = "") -> None:
        self._folder = folder
        self._name = f"{os.getpid()}-{family}-{os.urandom(6).hex()}"
        self._lock: int | None = None
        self._crash: IO[bytes] | None = None
        self._crash_file: tuple[int, int] | None = None
        self._warned = False

    def begin(self) -> None:
        """Put the marks in place. Raises OSError where that cannot be done."""
        make_own(self._folder.parent)
        make_own(self._folder)
        self._lock = open_locked(self._path("life"), os.O_RDWR | os.O_CREAT | os.O_EXCL)
        self._lock_file = file_of(self._lock) if self._lock is not None else None
        # One that is enabled already belongs to the app, or to a debugger.
        if not faulthandler.is_enabled():
            descriptor = os.open(self._path("crash"), os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
            self._crash = os.fdopen(descriptor, "wb", buffering=0)
            self._crash_file = file_of(descriptor)
            _enable(file=self._crash)

    def give_up_crashes(self) -> None:
        """The app enabled or disabled ``faulthandler`` itself: leave it to the app from now on."""
        if self._crash is not None:
            self._close_crash()

    def check_crash_file(self) -> None:
        """Where our descriptor was closed, its number may now be a file of the app: nothing may be written there."""
        if self._crash is not None and not self._crash_is_open():
            _disable()
            self._close_crash()

    def _crash_is_open(self) -> bool:
        try:
            return self._crash is not None and file_of(self._crash.fileno()) == self._crash_file
        except OSError:
            return False

    def _close_crash(self) -> None:
        crash, self._crash = self._crash, None
        if crash is None:
            return
        try:
            if file_of(crash.fileno()) == self._crash_file:
                crash.close()
                return
        except OSError:
            pass
        # The descriptor is not ours any more, or closed already: the object must not close it when it is freed.
        _lost.append(crash)

    def tell(self, story: Story | None) -> None:
        """Write the story, already redacted; None when nothing is open. Never raises."""
        path = self._path("story")
        try:
            if story is None:
                if self._warned:
                    path.unlink(missing_ok=True)
                    self._warned = False
                return
            partial = self._path("partial")
            descriptor = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
            with os.fdopen(descriptor, "w", encoding="utf-8", errors="replace") as opened:
                json.dump(story, opened)
            os.replace(partial, path)  # noqa: PTH105
            self._warned = True
        except (OSError, ValueError, TypeError):
            return

    def end(self) -> None:
        """Remove the marks: this process ends properly."""
        self._let_go(remove=True)

    def forget(self) -> None:
        """In a forked child: close the parent's marks without removing them."""
        self._let_go(remove=False)

    def _let_go(self, *, remove: bool) -> None:
        if self._crash is not None:
            _disable()
            self._close_crash()
        if remove:
            for kind in ("story", "crash", "life"):
                with contextlib.suppress(OSError):
                    self._path(kind).unlink(missing_ok=True)
        if self._lock is not None:
            with contextlib.suppress(OSError):
                if file_of(self._lock) == self._lock_file:
                    os.close(self._lock)
            self._lock = None

    def _path(self, kind: str) -> Path:
        return self._folder / f"{self._name}.{kind}"


def read_ended(folder: Path, report: Callable[[str, Story], bool], *, family: str = "") -> int:
    """Report what ended processes left (faulthandler's output, their story); return how many there were. With a
    ``family`` only its members. ``report`` returns whether the marks can be removed. Each is reported before its
    marks are removed: a start that is killed too leaves them for the next one.
    """
    reported = 0
    try:
        listed = os.listdir(folder)  # noqa: PTH208 - names are enough
    except OSError:
        return 0
    names = sorted(name for name in listed if name.endswith(".life") and (not family or f"-{family}-" in name))
    for name in names[:MOST_LOOKED_AT]:
        path = folder / name
        try:
            lock = open_locked(path)
        except OSError:
            continue
        if lock is None:
            continue
        reported += 1
        try:
            if not report(_read(path.with_suffix(".crash"))[-64_000:], _story(path.with_suffix(".story"))):
                continue
            for kind in (".story", ".crash", ".partial", ".life"):
                with contextlib.suppress(OSError):
                    path.with_suffix(kind).unlink(missing_ok=True)
        finally:
            os.close(lock)
    return reported


def _read(path: Path) -> str:
    try:
        with path.open("rb") as opened:
            return opened.read(MOST_STORY_BYTES).decode("utf-8", "replace")
    except OSError:
        return ""


def _story(path: Path) -> Story:
    try:
        content = json.loads(_read(path))
    except ValueError:
        return {}
    return content if isinstance(content, dict) else {}
