"""``python -m bench.fuzz [SECONDS] [TARGET ...]``: each parser for so long under a coverage-guided fuzzer (atheris), and one table.

A target fails where it raises what is not refused in words, takes more than two seconds over one input, or more than 700 MB.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.fuzz.targets import TARGETS

LONGEST_S, MOST_MB, MOST_BYTES = 2, 700, 20_000
ONE = "--one"


def drive(name: str, words: list[str]) -> None:
    """Drive one target in this process until it fails or its time is over; libFuzzer ends the process."""
    import atheris

    target = TARGETS[name]
    with atheris.instrument_imports(include=["obitus.core", "obitus.service.intake"]):
        for seed in target.seeds():
            target.drive(seed)
    atheris.Setup([sys.argv[0], *words], target.drive)
    atheris.Fuzz()


def table(seconds: int, names: list[str]) -> int:
    """Drive targets, as many at once as there are processors; return how many failed."""
    failed = 0
    waiting, at_work = list(names), dict[str, tuple[subprocess.Popen[bytes], Path]]()
    kept = Path("build/fuzz")
    kept.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        while waiting or at_work:
            while waiting and len(at_work) < (os.cpu_count() or 1):
                name = waiting.pop(0)
                at_work[name] = _started(name, seconds, Path(folder), kept), Path(folder) / f"{name}.log"
            for name, (process, log) in list(at_work.items()):
                if process.poll() is not None:
                    del at_work[name]
                    failed += process.returncode != 0
                    print(_row(name, process.returncode, log.read_text("utf-8", "replace")), flush=True)
            time.sleep(0.2)
    return failed


def _started(name: str, seconds: int, folder: Path, kept: Path) -> subprocess.Popen[bytes]:
    seeds = folder / name
    seeds.mkdir()
    for number, seed in enumerate(TARGETS[name].seeds()):
        (seeds / f"seed-{number}").write_bytes(seed[:MOST_BYTES])
    words = [str(seeds), f"-max_total_time={seconds}", f"-max_len={MOST_BYTES}", f"-timeout={LONGEST_S}", f"-rss_limit_mb={MOST_MB}", f"-artifact_prefix={kept}/{name}-", "-print_final_stats=1"]  # fmt: skip
    with (folder / f"{name}.log").open("wb") as log:
        return subprocess.Popen([sys.executable, "-m", "bench.fuzz", ONE, name, *words], stdout=log, stderr=log)


def _row(name: str, status: int, said: str) -> str:
    runs = re.search(r"number_of_executed_units:\s*(\d+)", said)
    slowest = re.search(r"slowest_unit_time_sec:\s*(\d+)", said)
    most = re.search(r"peak_rss_mb:\s*(\d+)", said)
    covered = re.findall(r"cov: (\d+)", said)
    what = "holds"
    if status:
        trouble = re.findall(
            r"(?m)^(?:\s*=== Uncaught Python exception: ===\s*)?([A-Za-z_.]*(?:Error|Exception|Trouble)\b.*)$", said
        )
        artifact = re.search(r"Test unit written to (\S+)", said)
        why = (
            "too slow"
            if "ALARM: working on" in said
            else "too much memory"
            if "out-of-memory" in said
            else (trouble[-1] if trouble else said[-300:])
        )
        what = f"FAILS: {why[:200]} ({artifact[1] if artifact else 'no input kept'})"
    numbers = [one[1] if one else "–" for one in (runs, slowest, most)]
    return f"{name:<16} {numbers[0]:>10} inputs, {covered[-1] if covered else '–':>6} places, slowest {numbers[1]} s, {numbers[2]} MB   {what}"


def main() -> None:
    """Drive what is asked for."""
    if sys.argv[1:2] == [ONE]:
        drive(sys.argv[2], sys.argv[3:])
        return
    words = sys.argv[1:]
    seconds = int(words.pop(0)) if words and words[0].isdigit() else 60
    sys.exit(1 if table(seconds, words or list(TARGETS)) else 0)


if __name__ == "__main__":
    main()
