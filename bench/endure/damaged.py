"""``python -m bench.endure.damaged [CYCLES]``: the file of a day is cut, written over or gone after a kill, and the service goes on without it.

Each cycle takes records of some days, damages one file, and starts the service on it. It has to start, to answer for all other days, to
take what is reported of that day too, and ``verify`` has to name that file and no other; what is mended has to be whole after that.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, Final

import urllib3

from bench.endure.target import Target, report
from obitus.store.backups.verifying import verify
from obitus.store.database import open_as_reader
from obitus.store.sight import WHOLE

DAYS, OF_A_DAY, PAGE = 4, 40, 4096
KNOWN_ANSWERS: Final = (200, 503)
"""To one who reads: with what is there, or with the reason where the very page that is asked for is damaged."""


@dataclass
class Damaged:
    """What was found over all cycles."""

    cycles: int = 0
    ways: Counter[str] = field(default_factory=Counter)
    noticed: int = 0
    """Cycles in which the damage was of a page that holds something."""
    wrong: list[str] = field(default_factory=list)
    """What did not hold, in words."""


def damage_again_and_again(cycles: int, folder: Path, seed: int = 11) -> Damaged:
    """Run it; returns what was found."""
    found, dice = Damaged(), random.Random(seed)
    target = Target(folder / "data", log=folder / "service.log")
    for day in range(DAYS):
        assert _send(target, day, OF_A_DAY) == 200, "the service takes nothing"
    target.process.kill()
    target.process.wait()
    shutil.copytree(folder / "data", folder / "whole")
    for _ in range(cycles):
        shutil.rmtree(folder / "data")
        shutil.copytree(folder / "whole", folder / "data")
        _cycle(target, dice, found)
        found.cycles += 1
    target.log.close()
    return found


def _cycle(target: Target, dice: random.Random, found: Damaged) -> None:
    data = target.folder
    files = sorted((data / "days").glob("*.sqlite3"))
    chosen = dice.choice(files)
    way, damage = dice.choice(list(WAYS.items()))
    damage(chosen, dice)
    found.ways[way] += 1
    said = f"{chosen.name} {way}: "
    named = {one.what for one in verify(data)} if way != "gone" else {f"days/{chosen.name}"}
    if named - {f"days/{chosen.name}"}:
        found.wrong.append(said + f"verify names {named}")
    found.noticed += bool(named)
    target.start()
    try:
        _ask(target, found, said)
    finally:
        target.process.kill()
        target.process.wait()
    verify(data, repair=True)
    left = [f"{one.what}: {one.said}" for one in verify(data)]
    if left:
        found.wrong.append(said + f"after repair {left}")
    for file in files:
        if file != chosen and _ids(file) < OF_A_DAY:
            found.wrong.append(said + f"{file.name} holds {_ids(file)}")


def _ask(target: Target, found: Damaged, said: str) -> None:
    """Read all, and report something of each day."""
    headers = {"Authorization": f"Bearer {target.token}"}
    for path in ("/api/issues?window=14d", "/api/issues/1?window=14d", "/api/records/failures?window=14d", "/api/records/failures/summary?window=14d&summary=count+by+type", "/api/now?window=14d"):  # fmt: skip
        answer = urllib3.request("GET", target.url + path, headers=headers, timeout=60, retries=False)
        if answer.status not in KNOWN_ANSWERS:
            found.wrong.append(said + f"{path} answers {answer.status} {answer.data[:200]!r}")
    for day in range(DAYS):
        status = _send(target, day, 1)
        if status not in KNOWN_ANSWERS:
            found.wrong.append(said + f"a report of {day} days ago is answered {status}")


def _send(target: Target, days_ago: int, count: int) -> int:
    when = (datetime.now(UTC) - timedelta(days=days_ago)).isoformat(timespec="milliseconds")
    body = "\n".join(json.dumps(report(f"no berth {n}")[1] | {"time": when}) for n in range(count))
    headers = {"Authorization": f"Bearer {target.honest}"}
    answer = urllib3.request("POST", target.url + "/reports", body=body, headers=headers, timeout=60, retries=False)
    return answer.status


def _ids(file: Path) -> int:
    with closing(open_as_reader(file, "PRAGMA cache_size = -500", {}, WHOLE)) as day:
        return int(day.execute("SELECT COUNT(*) FROM ids").fetchone()[0])


def _cut(path: Path, dice: random.Random) -> None:
    os.truncate(path, dice.randrange(0, path.stat().st_size))


def _cut_at_a_page(path: Path, dice: random.Random) -> None:
    os.truncate(path, dice.randrange(0, path.stat().st_size // PAGE) * PAGE)


def _write_over(path: Path, dice: random.Random) -> None:
    with path.open("r+b") as file:
        file.seek(dice.randrange(0, path.stat().st_size // PAGE) * PAGE)
        file.write(dice.randbytes(PAGE))


def _one_byte(path: Path, dice: random.Random) -> None:
    with path.open("r+b") as file:
        file.seek(dice.randrange(0, path.stat().st_size))
        file.write(dice.randbytes(1))


def _log_written_over(path: Path, dice: random.Random) -> None:
    log = path.with_name(path.name + "-wal")
    if log.exists() and log.stat().st_size:
        _one_byte(log, dice)
    else:
        _write_over(path, dice)


def _gone(path: Path, _: random.Random) -> None:
    for one in (path, path.with_name(path.name + "-wal"), path.with_name(path.name + "-shm")):
        one.unlink(missing_ok=True)


WAYS: Final[dict[str, Callable[[Path, random.Random], Any]]] = {
    "cut": _cut,
    "cut at a page": _cut_at_a_page,
    "a page written over": _write_over,
    "a byte changed": _one_byte,
    "its log of writes changed": _log_written_over,
    "gone": _gone,
}


def main() -> None:
    """Damage so many times, and print what was found."""
    cycles, began_s = int(sys.argv[1]) if len(sys.argv) > 1 else 60, time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        found = damage_again_and_again(cycles, Path(folder))
    print(
        f"{found.cycles:,} files damaged in {(time.monotonic() - began_s) / 60:.1f} min; {found.noticed:,} times something that is used"
    )
    for way, count in sorted(found.ways.items()):
        print(f"  {way:<30} {count:>6,}")
    print(f"did not hold: {len(found.wrong)} (bound 0)")
    for one in found.wrong:
        print(f"  {one}")
    sys.exit(1 if found.wrong else 0)


if __name__ == "__main__":
    main()
