"""Making the corpus takes minutes: what was made is kept in ``build/`` until anything that it is made from changes."""

from __future__ import annotations

import hashlib
import json
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict
from importlib.metadata import distributions
from pathlib import Path

from bench.corpus import making
from bench.corpus.making import Record

KEPT = Path(__file__).parents[2] / "build" / "corpus"


def corpus(apps: tuple[str, ...]) -> dict[str, list[Record]]:
    """Return the records of each app, from what was kept or made anew."""
    KEPT.mkdir(parents=True, exist_ok=True)
    wanted = {app: KEPT / f"{app}-{_made_from()}.json" for app in apps}
    missing = [app for app, path in wanted.items() if not path.exists()]
    if missing:
        with ProcessPoolExecutor(max_workers=2) as pool:
            for app, found in zip(missing, pool.map(making.records, missing), strict=True):
                wanted[app].write_text(json.dumps([asdict(record) for record in found]), "utf-8")
    return {app: [Record(**one) for one in json.loads(path.read_text("utf-8"))] for app, path in wanted.items()}


def _made_from() -> str:
    hashed = hashlib.sha256()
    folder = Path(__file__).parent
    for path in sorted([*folder.glob("*.py"), *folder.glob("apps/*.py")]):
        if path.name != "keeping.py":
            hashed.update(path.read_bytes())
    for name in sorted(f"{d.metadata['Name']}=={d.version}" for d in distributions()):
        hashed.update(name.encode())
    return hashed.hexdigest()[:12]
