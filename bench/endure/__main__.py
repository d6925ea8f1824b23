"""``python -m bench.endure [SECONDS]``: endure as long as one says, and print one table."""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

from bench.endure.running import LONGEST_HEALTH_MS, LONGEST_RATIO, MOST_MB, Latency, Measurements, endure, p95, typical


def table(found: Measurements) -> list[tuple[str, str, str, bool]]:
    """Return what was measured, its bound, and whether it holds."""
    health_ms = p95(found.health_ms)
    rows = [
        *_latency("acknowledged, 95th percentile", found.sending),
        *_latency("list of issues shown, 95th percentile", found.reading),
        ("  not shown", f"{found.unread:,}", "", True),
        ("processors' time given to other machines", f"{100 * found.taken_away:.0f}%", "", True),
        ("/health, 95th percentile, under all", f"{health_ms:.1f} ms", f"{LONGEST_HEALTH_MS:.0f} ms", health_ms <= LONGEST_HEALTH_MS),
        ("/health, slowest", f"{max(found.health_ms):.0f} ms", f"{LONGEST_HEALTH_MS:.0f} ms", max(found.health_ms) <= LONGEST_HEALTH_MS),
        ("memory at most, all its processes", f"{found.most_mb:.0f} MB", f"{MOST_MB:.0f} MB", found.most_mb <= MOST_MB),
        ("acknowledged", f"{found.acknowledged:,}", "", True),
        ("  of these missing", f"{found.missing:,}", "0", found.missing == 0),
        ("  of these there twice", f"{found.doubled:,}", "0", found.doubled == 0),
        ("asked to send again (429, 503, 507)", f"{found.refused:,}", "", True),
        ("answered otherwise", f"{found.faults:,}", "0", found.faults == 0),
        ("server errors under generated requests", f"{found.broken:,}", "0", found.broken == 0),
        ("kills", f"{found.kills}", "", True),
    ]  # fmt: skip
    disk = found.disk
    if disk is None:
        return [*rows, ("full disk", "not tried", "", True)]
    return [
        *rows,
        ("full disk: answer to a report, to /health", f"{disk.answer}, {disk.health}", "507, 503", (disk.answer, disk.health) == (507, 503)),
        ("full disk: answer to one who reads", f"{disk.reading}", "200", disk.reading == 200),
        ("full disk: acknowledged before and after", f"{disk.before:,}, {disk.after:,}", "", disk.after > 0),
        ("  of these missing or twice", f"{disk.wrong:,}", "0", disk.wrong == 0),
    ]  # fmt: skip


def _latency(name: str, latency: Latency) -> list[tuple[str, str, str, bool]]:
    """Return the rows of one kind of answer."""
    return [
        (f"{name}, alone", _spread(latency.alone), "", True),
        ("  the processors busy, no others", _spread(latency.busy), "", True),
        ("  all others at another service here", _spread(latency.beside), "", True),
        ("  all others at this service", _spread(latency.under_all), "", True),
        ("  against the others at another service", f"{latency.ratio:.2f}", f"{LONGEST_RATIO}", latency.ratio <= LONGEST_RATIO),
        ("  against busy processors", f"{latency.ratio_to_busy:.2f}", f"{LONGEST_RATIO}", latency.ratio_to_busy <= LONGEST_RATIO),
        ("  against alone", f"{latency.ratio_to_alone:.2f}", "", True),
        ("  busy processors against alone", f"{latency.ratio_of_busy:.2f}", "", True),
    ]  # fmt: skip


def _spread(rounds: list[list[float]]) -> str:
    """Say the round in the middle, and between which all were."""
    each = [p95(one) for one in rounds]
    return f"{typical(rounds):.1f} ms ({min(each):.1f} to {max(each):.1f})" if each else "not measured"


def main() -> None:
    """Endure as long as one says, and print one table."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    with tempfile.TemporaryDirectory() as folder:
        found = endure(seconds, Path(folder))
    print(f"{seconds:g} s under {len(found.done)} kinds of trouble at once, {os.cpu_count()} processors\n")
    for name, value, bound, holds in table(found):
        print(f"{name:<46} {value:>28}   {f'bound {bound}' if bound else '':<16} {'' if holds else 'NOT HELD'}")
    print("\nhow often: " + ", ".join(f"{name} {count:,}" for name, count in found.done.items()))
    if found.said:
        print(f"The latest answer that was none of those meant: {found.said}")
    if found.disk is None:
        print("The full disk needs the right to mount a small file system.")
    sys.exit(0 if all(row[3] for row in table(found)) else 1)


if __name__ == "__main__":
    main()
