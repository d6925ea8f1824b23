"""The line's git repository, made on the spot: its commits, authors and dates follow from the story."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from obitus.core.clock import HOUR_MS
from obitus.demo.story import CHANGES, LIVE, Change


def make(folder: Path, deploys: Path, start_ms: int) -> bool:
    """Make the repository with a tag for each release from the trees in ``deploys``; return False where there is no git."""
    if shutil.which("git") is None:
        return False
    folder.mkdir(parents=True)
    _git(folder, start_ms, "Ida Moss", "init", "--quiet", "--initial-branch=main")
    for release in LIVE:
        for change in [one for one in CHANGES if one.release == release]:
            time_ms = start_ms + int(change.hour * HOUR_MS)
            _write(folder, deploys / release, change)
            _git(folder, time_ms, change.author, "add", "--all")
            _git(folder, time_ms, change.author, "commit", "--quiet", "--message", change.subject)
        _git(folder, start_ms, "Ida Moss", "tag", f"v{release}")
    return True


def _write(folder: Path, tree: Path, change: Change) -> None:
    for name in change.files:
        source, target = tree / name, folder / name
        if source.is_dir():
            shutil.copytree(source, target, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
        else:
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, target)
    if not change.files:
        with (folder / "NOTES.md").open("a", encoding="utf-8") as notes:
            notes.write(f"- {change.subject}.\n")


def _git(folder: Path, time_ms: int, author: str, *arguments: str) -> None:
    who = {"NAME": author, "EMAIL": f"{author.split()[0].lower()}@skerry.example", "DATE": f"{time_ms // 1000} +0000"}
    names = {f"GIT_{part}_{name}": value for name, value in who.items() for part in ("AUTHOR", "COMMITTER")}
    environment = {name: value for name, value in os.environ.items() if not name.startswith("GIT_")} | names
    environment |= {"GIT_CONFIG_GLOBAL": os.devnull, "GIT_CONFIG_NOSYSTEM": "1"}
    subprocess.run(["git", "-C", str(folder), *arguments], check=True, env=environment, capture_output=True)  # noqa: S603, S607 - fixed arguments
