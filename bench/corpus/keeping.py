"""Making the corpus takes minutes: what was made is kept in ``build/`` until anything that it is made from changes."""

from __future__ import annotations

import hashlib
import json
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict
from importlib.metadata import distributions
from pathlib import Path
from types import ModuleType

from bench.corpus import making, suites
from bench.corpus.making import Record

KEPT = Path(__file__).parents[2] / "build" / "corpus"


def corpus(apps: tuple[str, ...]) -> dict[str, list[Record]]:
    """Return the records of each app, from what was kept, or made now."""
    KEPT.mkdir(parents=True, exist_ok=True)
    wanted = {app: KEPT / f"{app}-{_made_from(app)}.json" for app in apps}
    missing = [app for app, path in wanted.items() if not path.exists()]
    if missing:
        if any(app in suites.LIBRARIES for app in missing):
            suites.installed()
        with ProcessPoolExecutor(max_workers=2) as pool:
            made = {app: pool.submit(_of(app).records, app) for app in missing}
            for app, found in made.items():
                wanted[app].write_text(json.dumps([asdict(record) for record in found.result()]), "utf-8")
    return {app: [Record(**one) for one in json.loads(path.read_text("utf-8"))] for app, path in wanted.items()}


def _of(app: str) -> ModuleType:
    return suites if app in suites.LIBRARIES else making


def _made_from(app: str) -> str:
    hashed = hashlib.sha256()
    folder = Path(__file__).parent
    own = [folder / "suites.py", suites.PINNED] if app in suites.LIBRARIES else sorted(folder.glob("apps/*.py"))
    for path in [folder / "planting.py", folder / "making.py", folder / "captured.py", *own]:
        hashed.update(path.read_bytes())
    for name in sorted(f"{d.metadata['Name']}=={d.version}" for d in distributions()):
        hashed.update(name.encode())
    return hashed.hexdigest()[:12]
