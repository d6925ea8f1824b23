"""Files that grow while they are read, and standard input: what is half written waits, and what is renamed is read on."""

from __future__ import annotations

import codecs
import gzip
import os
import threading
from collections.abc import Callable, Iterator
from contextlib import ExitStack, suppress
from datetime import UTC
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from obitus.reading import files, following
from obitus.reading.files import Pipe, open_file
from obitus.reading.following import Following, Growing
from obitus.reading.marks import Marks
from obitus.reading.reading import Form, Options, Reading
from tests.conftest import until

LINE = "2026-11-25 10:00:00 INFO [gates] up\n"
TRACE = """\
2026-11-25 10:00:01 ERROR [gates] cannot open
java.lang.IllegalStateException: gate 7 is shut
\tat org.skerry.Gate.open(Gate.java:12)
\tat org.skerry.Quay.run(Quay.java:40)
"""
REQUEST = '10.0.0.9 - - [25/Nov/2026:10:00:00 +0000] "GET /gates HTTP/1.1" 500 5\n'


class Sent(list[dict[str, Any]]):
    """Takes reports in place of a service."""

    def add(self, report: dict[str, Any]) -> None:
        self.append(report)

    def flush(self) -> None: ...

    def failures(self) -> list[int]:
        """The number of frames of each failure."""
        return [len(one["exceptions"][0]["frames"]) for one in self if one["kind"] == "failure"]

    def records(self) -> list[str]:
        return [one["message"] for one in self if one["kind"] == "log"]

    def runs(self) -> int:
        return sum(one["kind"] == "run" for one in self)


class Turns:
    """Follows files turn by turn; ``seconds`` pass before a turn."""

    def __init__(self, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.setenv("XDG_STATE_HOME", str(folder / "state"))
        monkeypatch.setattr("time.monotonic", lambda: self.now_s)
        monkeypatch.setattr("time.sleep", lambda _seconds: None)
        self.now_s = 1000.0
        self.sent = Sent()
        self.said: list[str] = []
        self.stack = ExitStack()
        self._following: Following | None = None

    def follow(self, *names: Path, form: Form = "auto", lines: bool = False) -> None:
        reading = Reading(
            Options(form, UTC, None, dry_run=False, lines=lines, follow=True), self.sent, Marks("here"), lambda _: None
        )

        def begin(name: str) -> Growing | None:
            return reading.read(name, *open_file(name, self.stack))

        found = [str(name) for name in names]
        self._following = Following(lambda: files.files_of(found), begin, self.said.append)

    def turn(self, seconds: float = 0.5) -> None:
        assert self._following is not None
        self.now_s += seconds
        begun: Iterator[bool] = iter((False, True))
        self._following.until(lambda: next(begun))


@pytest.fixture
def turns(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Turns]:
    made = Turns(tmp_path, monkeypatch)
    with made.stack:
        yield made


def write(path: Path, text: str) -> None:
    with path.open("a") as opened:
        opened.write(text)


def open_times(path: Path) -> int:
    """Return how often this process has a file open, also one that was removed."""
    found = 0
    for descriptor in os.listdir("/proc/self/fd"):
        with suppress(OSError):
            found += os.readlink(f"/proc/self/fd/{descriptor}").removesuffix(" (deleted)") == str(path)
    return found


def test_a_trace_that_is_written_in_pieces_is_one(turns: Turns, tmp_path: Path) -> None:
    """Between its lines, and inside of one, a reader may come by as often as it likes."""
    path = tmp_path / "gate.log"
    path.write_text(LINE)
    turns.follow(path, lines=True)
    cuts = [0, 60, 120, 140, len(TRACE)]
    for begin, end in pairwise(cuts):
        write(path, TRACE[begin:end])
        turns.turn()
        turns.turn()
    assert turns.sent.failures() == []
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2]
    assert [record.count("\n") for record in turns.sent.records()] == [0, 0, 2]
    write(path, LINE + LINE)
    turns.turn()
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2] and len(turns.sent.records()) == 5


def test_half_a_line_waits_for_the_rest(turns: Turns, tmp_path: Path) -> None:
    """A program that writes blocks of some kilobytes may leave half a line for hours."""
    path = tmp_path / "gate.log"
    path.write_text(LINE + LINE[:30])
    turns.follow(path, lines=True)
    turns.turn(seconds=7200)
    write(path, LINE[30:])
    turns.turn()
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.records() == ["up", "up"]


def test_what_waits_is_read_again_next_time(turns: Turns, tmp_path: Path) -> None:
    """Ctrl-C in the middle of a trace loses nothing of it, and sends no half."""
    path = tmp_path / "gate.log"
    path.write_text(LINE + TRACE[:130])
    turns.follow(path)
    turns.turn()
    write(path, TRACE[130:])
    turns.follow(path)
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2]


def test_a_renamed_file_is_read_on(turns: Turns, tmp_path: Path) -> None:
    """Whoever has it open goes on writing to it after its successor is there; only when that is over it is let go."""
    path = tmp_path / "gate.log"
    path.write_text(LINE)
    turns.follow(path)
    with path.open("a") as still_open:
        path.rename(tmp_path / "gate.log.1")
        turns.turn()
        path.write_text(LINE + TRACE)
        turns.turn()
        still_open.write(TRACE)
        still_open.flush()
        turns.turn()
        turns.turn(seconds=files.QUIET_S)
        assert turns.sent.failures() == [2, 2]
        before = open_times(tmp_path / "gate.log.1")
        turns.turn(seconds=following.REPLACED_S)
        assert (before, open_times(tmp_path / "gate.log.1")) == (2, 1), "the test itself has it open"


@pytest.mark.parametrize("first", ["", REQUEST[:20], "#Software: a web server\n#Ver"])
def test_the_form_of_a_file_is_not_guessed_before_its_first_line(turns: Turns, tmp_path: Path, first: str) -> None:
    """Rotation makes an empty file; what is written to it is an access log as before."""
    path = tmp_path / "access.log"
    path.write_text(REQUEST.replace("gates", "tides"))
    turns.follow(path)
    path.rename(tmp_path / "access.log.1")
    path.write_text(first)
    turns.turn()
    turns.turn()
    if first.startswith("#"):
        write(
            path,
            "sion: 1.0\n#Fields: date time cs-method cs-uri-stem sc-status\n"
            + 2 * "2026-11-25 10:00:00 GET /gates 500\n",
        )
    else:
        write(path, REQUEST[len(first) :] + REQUEST)
    turns.turn()
    assert turns.sent.runs() == 3


def test_an_emptied_file_is_read_from_its_start(turns: Turns, tmp_path: Path) -> None:
    """What copies a log and empties it leaves the same file."""
    path = tmp_path / "gate.log"
    path.write_text(LINE + TRACE)
    turns.follow(path)
    path.write_text("")
    turns.turn()
    write(path, TRACE)
    turns.turn()
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2, 2]


def test_further_files_of_a_pattern(turns: Turns, tmp_path: Path) -> None:
    """Logs with the day in their names: the next day's is found, and one that was removed is let go."""
    first, second = tmp_path / "gate-11-25.log", tmp_path / "gate-11-26.log"
    first.write_text(LINE)
    turns.follow(tmp_path / "gate-*.log")
    second.write_text(LINE.replace("25", "26") + TRACE)
    turns.turn(seconds=following.FIND_S)
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2]
    first.unlink()
    turns.turn()
    before = open_times(first)
    turns.turn(seconds=following.REPLACED_S)
    assert (before, open_times(first)) == (1, 0)
    first.write_text(LINE.replace("up", "down") + TRACE)
    turns.turn()
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2, 2]


def test_a_file_that_may_not_be_read_does_not_end_it(
    turns: Turns, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Rotation has made a file that only root may read: that is said once; the others, and later that one, are read."""
    path, other = tmp_path / "gate.log", tmp_path / "tide.log"
    path.write_text(LINE)
    other.write_text(LINE)
    turns.follow(path, other)
    path.rename(tmp_path / "gate.log.1")
    path.write_text(TRACE)
    may_read = Path.open

    def opens(self: Path, *how: Any, **named: Any) -> Any:
        if self == path and how == ("rb",):
            raise PermissionError(13, "Permission denied")
        return may_read(self, *how, **named)

    monkeypatch.setattr(Path, "open", opens)
    with other.open("a") as opened:
        opened.write(TRACE)
    turns.turn()
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2] and turns.said == [f"{path} cannot be read: Permission denied."]
    monkeypatch.setattr(Path, "open", may_read)
    turns.turn()
    turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2, 2] and len(turns.said) == 1


def test_a_file_that_is_no_text_is_said_once(turns: Turns, tmp_path: Path) -> None:
    """It is not tried again at each turn, and does not keep the others from being read."""
    (tmp_path / "core").write_bytes(b"\n" + b"\0" * 2000)
    path = tmp_path / "gate.log"
    path.write_text(TRACE)
    turns.follow(tmp_path / "core", path)
    for _ in range(5):
        turns.turn(seconds=files.QUIET_S)
    assert turns.sent.failures() == [2]


WIDE: dict[str, Callable[[str], bytes]] = {
    "UTF-16, little end first": lambda text: codecs.BOM_UTF16_LE + text.encode("utf-16-le"),
    "UTF-16, big end first": lambda text: codecs.BOM_UTF16_BE + text.encode("utf-16-be"),
    "UTF-16, compressed": lambda text: gzip.compress(codecs.BOM_UTF16_LE + text.encode("utf-16-le")),
    "UTF-8 with a mark": lambda text: text.encode("utf-8-sig"),
}


@pytest.mark.parametrize("encoding", WIDE)
def test_files_of_windows(encoding: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Where output is redirected to a file, it is often UTF-16; what was read of it is known next time."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    path = tmp_path / "gate.log"
    text = (LINE * 3000 + TRACE.replace("gate 7", "gate Ørnes 7 🚢")).replace("\n", "\r\n")

    def read(data: bytes) -> tuple[Reading, Sent]:
        path.write_bytes(data)
        sent = Sent()
        reading = Reading(Options("auto", UTC, None, dry_run=False), sent, Marks("here"), lambda _: None)
        with ExitStack() as stack:
            reading.read(str(path), *open_file(str(path), stack))
        return reading, sent

    reading, sent = read(WIDE[encoding](text))
    assert sent.failures() == [2] and reading.outcome.lines == 3004
    assert sent[0]["exceptions"][0]["message"] == "gate Ørnes 7 🚢 is shut"
    _, sent = read(WIDE[encoding](text + LINE.replace("\n", "\r\n") + TRACE))
    assert sent.failures() == [2] and sent[0]["exceptions"][0]["message"] == "gate 7 is shut"


class Piped:
    """Reads standard input in a thread."""

    def __init__(self, *, lines: bool = False) -> None:
        inner, self.descriptor = os.pipe()
        self.pipe = Pipe(inner)
        self.sent = Sent()
        options = Options("auto", UTC, None, dry_run=False, lines=lines)
        self.reading = Reading(options, self.sent, Marks("here"), lambda _: None)
        self._thread = threading.Thread(target=self.reading.read, args=("-", self.pipe, files.PACKED, 0))
        self._thread.start()

    def write(self, text: str) -> None:
        os.write(self.descriptor, text.encode())

    def close(self) -> None:
        os.close(self.descriptor)
        self.wait()

    def wait(self) -> None:
        self._thread.join(60)
        assert not self._thread.is_alive()


@pytest.fixture
def state(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def test_a_program_before_a_pipe_may_run_on(state: None) -> None:
    """What it says arrives while it runs, although it never says enough for a block; what it says in its last moment, too."""
    piped = Piped()
    piped.write(LINE)
    piped.write(TRACE[:80])
    piped.write(TRACE[80:])
    until(lambda: piped.sent.failures() == [2])
    piped.write(TRACE[:-1])
    piped.close()
    assert piped.sent.failures() == [2, 2]


def test_a_pipe_that_never_pauses(state: None) -> None:
    """A line each moment: they arrive in half a second, not when two megabytes are there."""
    piped = Piped(lines=True)
    for _ in range(100):
        piped.write(LINE)
        threading.Event().wait(0.02)
    until(lambda: len(piped.sent.records()) > 10)
    piped.close()
    assert len(piped.sent.records()) == 100


def test_much_in_small_pieces(monkeypatch: pytest.MonkeyPatch) -> None:
    """More pieces than are read ahead, each taken when its turn is over already: it does not come to a stop."""
    monkeypatch.setattr(files, "POLL_S", 0.0)
    inner, outer = os.pipe()
    pipe = Pipe(inner)
    for number in range(3 * files.MOST_WAITING):
        os.write(outer, b"%03d" % number)
        until(lambda: not pipe._pieces.empty())
        assert pipe.read1(100) == b"%03d" % number
    os.close(outer)
    until(lambda: pipe.read1(100) == b"" and pipe.ended)


def test_ctrl_c_is_the_end_of_a_pipe(state: None) -> None:
    """What was read until then is sent, the last trace as well."""
    piped = Piped()
    piped.write(LINE + TRACE)
    until(lambda: piped.reading.outcome.lines > 0)
    piped.pipe.stop()
    piped.wait()
    assert piped.sent.failures() == [2]
    os.close(piped.descriptor)


def test_a_program_that_begins_as_before_says_something_else(state: None) -> None:
    """Its first kilobyte, a banner, is no sign that the rest was read already."""
    banner = "=" * 78 + "\n"
    for _ in range(2):
        piped = Piped()
        piped.write(banner * 20 + TRACE)
        piped.close()
        assert piped.sent.failures() == [2]
