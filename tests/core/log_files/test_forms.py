"""Real stack traces of ten languages in the forms that logs give them: each is found once, and read as if it stood alone."""

from __future__ import annotations

import json
import random
import traceback
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

import pytest

from obitus.core.frames import ChainLink
from obitus.core.log_files.records import LogLine, record_of
from obitus.core.log_files.stacks import Scanner
from obitus.core.stacks import find_stacks

RECORDED = Path(__file__).parents[1] / "stacks" / "recorded.ndjson"
DART = Path(__file__).parents[1] / "stacks" / "texts" / "dart.txt"


def at(second: int) -> str:
    """Return a time as log writers write it."""
    return f"2026-11-01 00:{second // 60 % 60:02d}:{second % 60:02d},123"


def bystander(second: int) -> str:
    """Return a line of another thread."""
    return f"{at(second)} INFO  [gate-{second % 8}] skerry.Gate - passenger p-{second} boarded"


def behind(head: str) -> Callable[[list[str]], list[str]]:
    """A form in which one record heads the trace."""
    return lambda lines: [head, *lines]


def before_each(prefix: str) -> Callable[[list[str]], list[str]]:
    """A form in which each line of the trace bears what stands before log lines."""
    return lambda lines: [prefix + line for line in lines]


def on_first(prefix: str) -> Callable[[list[str]], list[str]]:
    """A form in which the trace begins on the record's own line."""
    return lambda lines: [prefix + lines[0], *lines[1:]]


def interleaved(lines: list[str]) -> list[str]:
    """Others write into the trace."""
    draw = random.Random(len(lines))
    return [one for line in lines for one in ([line, bystander(3)] if draw.random() < 0.15 else [line])]


def wrapped_each(lines: list[str]) -> list[str]:
    """What collects a container's output wraps each line for itself."""
    return [json.dumps({"log": line + "\n", "stream": "stderr", "time": "2026-11-25T10:00:00.5Z"}) for line in lines]


def of_the_journal(lines: list[str]) -> list[str]:
    """The system's journal, exported: each line is an entry."""
    return [
        json.dumps({"__REALTIME_TIMESTAMP": "1764064800500000", "MESSAGE": line, "PRIORITY": "3", "_PID": "12"})
        for line in lines
    ]


FORMS: dict[str, Callable[[list[str]], list[str]]] = {
    "as it is": lambda lines: lines,
    "behind a record": behind(f"{at(7)} ERROR [gate-1] skerry.Gate - failed"),
    "behind a record with tabs": behind(f"{at(7)}\tERROR\tskerry.Gate\tfailed"),
    "behind a short time": behind("10:00:07.123 [main] ERROR c.skerry.Gate - failed"),
    "behind brackets": behind("[2026-11-25 10:00:00 +0000] [12] [ERROR] Error handling request /gates"),
    "behind a level": behind("ERROR:    Exception in application"),
    "behind a worker": behind("[2026-11-25 10:00:00,123: ERROR/ForkPoolWorker-1] Task gates.open[1-2] raised unexpected: boom"),
    "on a record's line": on_first(f"{at(7)} ERROR [gate-1] skerry.Gate - "),
    "on a channel's line": on_first("[2026-11-25 10:00:00] gates.ERROR: "),
    "each line with thread and logger": before_each(f"{at(7)} ERROR [gate-1] skerry.Gate - "),
    "each line with a container": before_each("gate-1  | "),
    "each line with a pod": before_each("[pod/gate-7f9c/gate] "),
    "each line with a stream": before_each("2026-11-25T10:00:00.123456789Z stderr F "),
    "each line of the system's log": before_each("Nov 25 10:00:00 pier-1 ferry-gate[4711]: "),
    "each line of a web server's log": before_each("[Wed Nov 25 10:00:00.123456 2026] [gate:error] [pid 12:tid 9] [client 10.0.0.1:5555] "),
    "each line with level, process and program": before_each("F, [2026-11-25T10:00:00.123456 #12] FATAL -- : [abc-1] "),
    "each line with process, thread, tag": before_each("11-25 10:00:00.123  4711  4712 E Gate    : "),
    "each line with tabs": before_each("2026-11-25 10:00:00.123\tERROR\t4711\tskerry.Gate\t"),
    "each line with a level": before_each("ERROR "),
    "indented": before_each("    "),
    "coloured": lambda lines: [f"\x1b[31m{line}\x1b[0m" for line in lines],
    "windows' line ends": lambda lines: [line + "\r" for line in lines],
    "others between": interleaved,
    "each line in JSON": wrapped_each,
    "each line in the journal": of_the_journal,
    "whole in JSON": lambda lines: [json.dumps({"ts": at(7), "level": "error", "msg": "x", "exception": "\n".join(lines)})],
    "whole as JSON's message": lambda lines: [json.dumps({"time": at(7), "level": "error", "message": "\n".join(lines)})],
    "whole in a named value": lambda lines: [f'time="{at(7)}" level=error msg="boom" stack=' + json.dumps("\n".join(lines))],
}  # fmt: skip


def raised_here() -> Iterator[str]:
    """Python's own: plain, chained, of two lines, a group, with a note, a syntax error, a recursion."""

    def fare(n: int) -> int:
        try:
            return {1: 2}[n]
        except KeyError as error:
            raise ValueError(f"no fare {n}\nsecond line") from error

    def several() -> None:
        raise ExceptionGroup("many", [ValueError("one"), KeyError("two")])

    def noted() -> None:
        error = ValueError("noted")
        error.add_note("a note")
        raise error

    def deep(n: int) -> float:
        return deep(n + 1) if n < 30 else 1 / 0

    for raises in (
        lambda: {}["x"],
        lambda: fare(3),
        several,
        noted,
        lambda: compile("x = = 1", "f.py", "exec"),
        lambda: deep(0),
    ):  # type: ignore[index]
        try:
            raises()
        except Exception:
            yield traceback.format_exc()


@cache
def known() -> list[tuple[str, list[str], tuple[ChainLink, ...]]]:
    """Language, lines and chain of each trace, read where it stands alone."""
    texts = [json.loads(line)["text"] for line in RECORDED.read_text().splitlines()]
    found = []
    for text in [*texts, DART.read_text(), *raised_here()]:
        stacks = find_stacks(text)
        if len(stacks) == 1 and any(link.frames for link in stacks[0].chain):
            found.append((stacks[0].language, text.rstrip("\n").split("\n"), stacks[0].chain))
    return found


def told(chain: tuple[ChainLink, ...]) -> list[tuple[str, str, list[tuple[str, str, int | None]]]]:
    """Return types, messages and frames."""
    return [(link.type, link.message, [(f.function, f.file, f.line) for f in link.frames]) for link in chain]


def test_there_is_something_to_find() -> None:
    """Every language is here."""
    assert {"csharp", "dart", "go", "java", "javascript", "perl", "php", "python", "ruby", "rust"} == {
        one[0] for one in known()
    }


@pytest.mark.parametrize("form", FORMS)
def test_a_trace_in_a_log(form: str) -> None:
    """Between lines of others, in every form: found once, whole, and nothing of the form is taken for a part of it."""
    for language, lines, chain in known():
        log = [*map(bystander, range(5)), *FORMS[form](lines), *map(bystander, range(10, 15))]
        data = ("\n".join(log) + "\n").encode()
        found = list(Scanner().feed(data, end=True))
        assert [told(one.stack.chain) for one in found] == [told(chain)], (language, "\n".join(log))
        assert found[0].offset >= data.index(bystander(4).encode()) and found[0].stack.language == language


@pytest.mark.parametrize("form", [form for form in FORMS if form != "others between"])
def test_many_traces_in_a_log(form: str) -> None:
    """All of them in one log, in one form, with some lines of others between: each ends where the next one begins."""
    log: list[str] = []
    for number, (_, lines, _) in enumerate(known()):
        log += [*(bystander(number * 20 + line) for line in range(12)), *FORMS[form](lines)]
    found = Scanner().feed(("\n".join([*log, bystander(7)]) + "\n").encode(), end=True)
    assert [told(one.stack.chain) for one in found] == [told(chain) for _, _, chain in known()]


@pytest.mark.parametrize(
    ("line", "wanted"),
    [
        ('{"time":"2026-11-25T10:00:00Z","level":"warning","message":"the \\"Tern\\" is late"}', LogLine("2026-11-25T10:00:00Z", "WARN", 'the "Tern" is late')),
        ('{"ts":1764064801.25,"severity":"CRITICAL","msg":"tide"}', LogLine("1764064801.25", "FATAL", "tide")),
        ('{"@timestamp":"2026-11-25T10:00:00.1Z","log.level":"ERROR","message":"x"}', LogLine("2026-11-25T10:00:00.1Z", "ERROR", "x")),
        ('time="2026-11-25 10:00:00" level=error msg="gate \\"7\\" jams" gate=7', LogLine("2026-11-25 10:00:00", "ERROR", 'gate \\"7\\" jams')),
        ("ts=2026-11-25T10:00:00Z lvl=info msg=up", LogLine("2026-11-25T10:00:00Z", "INFO", "up")),
        ('{"level":40,"time":1764064801250,"pid":3,"msg":"gate jams"}', LogLine("1764064801250", "WARN", "gate jams")),
        ('{"__REALTIME_TIMESTAMP":"1764064801250000","PRIORITY":"6","MESSAGE":"up"}', LogLine("1764064801250000", "INFO", "up")),
        ('{"level":3,"timestamp":1764064801.25,"message":"x"}', LogLine("1764064801.25", "ERROR", "x")),
        ('{"level":70,"ts":1764064801250000000,"msg":"x"}', LogLine("1764064801250000000", "", "x")),
        ("2026-11-25 10:00:00 SEVERE gate: jams", LogLine("2026-11-25 10:00:00", "ERROR", "jams")),
        ('{"seat": 4}', None), ("a = b", None), ("nothing", None),
    ],
)  # fmt: skip
def test_what_a_line_says_of_itself(line: str, wanted: LogLine | None) -> None:
    """When, how severe, and what: in a prefix, in JSON, in named values."""
    assert record_of(line) == wanted


def test_a_trace_in_json_bears_the_time_of_its_record() -> None:
    """And its severity, not those of the file."""
    stack = "KeyError: 'x'\n".join(
        ['Traceback (most recent call last):\n  File "/srv/a.py", line 1, in f\n    go()\n', ""]
    )
    line = json.dumps({"ts": "2026-11-25T10:00:00Z", "level": "critical", "exception": stack})
    [found] = Scanner().feed(f"{line}\n".encode(), end=True)
    assert (found.time, found.severity) == ("2026-11-25T10:00:00Z", "FATAL")
