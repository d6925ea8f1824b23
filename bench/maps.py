"""Source maps: how long the first position of a large one takes, next to parsing its JSON, and each further one."""

from __future__ import annotations

import json
import random
import statistics
import time
from typing import Final

from tests.core.maps.writing import number

from bench.measuring import row
from obitus.core.maps.source_map import SourceMap

MEGABYTES: Final = 20
SOURCES: Final = 3000


def measure() -> None:
    """Print the rows."""
    data, last = _made()
    parsing, first, later = [], [], []
    for _ in range(7):
        started = time.perf_counter()
        json.loads(data)
        parsed = time.perf_counter()
        read = SourceMap.read(data)
        assert read.original(1, last // 2) is not None
        asked = time.perf_counter()
        for step in range(1000):
            read.original(1, step * last // 1000)
        ended = time.perf_counter()
        parsing.append(parsed - started)
        first.append(asked - parsed)
        later.append((ended - asked) / 1000)
    one, other = statistics.median(first), statistics.median(parsing)
    size = f"{len(data) / 1e6:.0f} MB"
    row(f"first position of a source map of {size} / json.loads (bound: 4)", f"{one * 1000:.0f} ms", f"{other * 1000:.0f} ms", one / other)  # fmt: skip
    print(f"    a further one takes {statistics.median(later) * 1e6:.1f} µs")


def _made() -> tuple[bytes, int]:
    """Return a map as a minified page of many modules has: one line, a segment every few characters, the text of each source; and its last column."""
    dice = random.Random(426)
    names = [f"name{one}" for one in range(20_000)]
    texts = [_text(dice, one) for one in range(SOURCES)]
    wanted = MEGABYTES * 1_000_000 - sum(map(len, texts))
    parts: list[str] = []
    column = size = source = line = name = 0
    while size < wanted:
        step, to_name = dice.randrange(1, 12), dice.randrange(len(names))
        to_source = min(SOURCES - 1, source + (dice.random() < 0.004))
        to_line = 0 if to_source != source else max(0, line + dice.choice((0, 0, 0, 1, 1, 2, -1)))
        numbers = [step, to_source - source, to_line - line, dice.randrange(-20, 40)]
        if dice.random() < 0.3:
            numbers.append(to_name - name)
            name = to_name
        column, source, line = column + step, to_source, to_line
        parts.append("".join(map(number, numbers)))
        size += len(parts[-1]) + 1
    map_ = {
        "version": 3, "sources": [f"../../src/module{one}.ts" for one in range(SOURCES)], "names": names,
        "mappings": ",".join(parts), "sourcesContent": texts,
    }  # fmt: skip
    return json.dumps(map_).encode(), column


def _text(dice: random.Random, module: int) -> str:
    """Return a source of some hundred lines."""
    lines = [f"export function berth{module}_{line}(pier: Pier): number {{\n\treturn pier.depth(\"{line}\") * {line};\n}}\n" for line in range(dice.randrange(20, 100))]  # fmt: skip
    return "\n".join(lines)
