"""Likely changes: real libraries in a made repository, with one commit among fifteen that plants a fault."""

from __future__ import annotations

import ast
import random
import shutil
import subprocess
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from bench.corpus.making import TEST, TUNING, _Layout
from bench.corpus.planting import Fault, planted, possible
from obitus.cli.git import Repository
from obitus.core.changes.ranking import likely_changes
from obitus.core.stacks import stack_of

COMMITS = 15
FAULTS = 5
TRIES = 20


def ranks(folder: Path, apps: tuple[str, ...] = TUNING + TEST) -> Iterator[tuple[str, int | None]]:
    """Yield for each planted fault the library and the place of its commit among the likely ones; None when it is not among five."""
    for app in apps:
        layout = _Layout(folder / app, app, copied=True)
        lines = layout.run(trace=layout.own)
        dice = random.Random(f"changes {app}")
        chances = [
            (Path(name), fault)
            for name, ran in sorted((lines or {}).items())
            if Path(name).name not in ("desk.py", "__init__.py")
            for fault in possible(Path(name).read_text("utf-8"), set(ran))
        ]
        dice.shuffle(chances)
        made = 0
        for path, fault in chances[:TRIES]:
            if made >= FAULTS:
                break
            place = _one(layout, path, fault, dice, sorted(Path(name) for name in lines))
            if place is not False:
                made += 1
                yield app, place


def _one(layout: _Layout, path: Path, fault: Fault, dice: random.Random, files: list[Path]) -> int | bool | None:
    """Make fifteen commits with the fault in one of them, fail, and return where that commit is ranked; False when nothing fails."""
    before = {file: file.read_text("utf-8") for file in files}
    if not _fails(layout, path, fault):
        return False
    history = [("before", dict(before))]
    try:
        at = dice.randrange(COMMITS)
        for number in range(COMMITS):
            # A third of the others touch the very file.
            edited = path if number == at or dice.random() < 0.34 else dice.choice(files)
            if number == at:
                try:
                    text = planted(path.read_text("utf-8"), fault)
                    compile(text, str(path), "exec", dont_inherit=True)
                except (SyntaxError, LookupError, ValueError):
                    return False
                path.write_text(text, "utf-8")
            else:
                _edit(edited, dice)
            history.append(("planted" if number == at else f"other {number}", {edited: edited.read_text("utf-8")}))
        outcomes = layout.run()
        found = stack_of(*outcomes[0][1:4]) if outcomes else None
        if found is None:
            return False
        repository = _repository(layout.own, history)
        commits = repository.commits(repository.revision("v1"), repository.revision("main") or "").commits
        ranked = [one.commit.subject for one in likely_changes(found.chain, commits)]
        return ranked.index("planted") + 1 if "planted" in ranked else None
    finally:
        shutil.rmtree(layout.own / ".git", ignore_errors=True)
        for file, text in before.items():
            file.write_text(text, "utf-8")


def _repository(folder: Path, history: list[tuple[str, dict[Path, str]]]) -> Repository:
    """Make a git repository of these commits, in one go; ``v1`` is the first."""
    stream: list[bytes] = []
    for number, (subject, files) in enumerate(history):
        said = subject.encode()
        stream.append(
            b"commit refs/heads/main\nmark :%d\ncommitter Ida Moss <ida@skerry.example> %d +0000\n"
            % (number + 1, 1_790_000_000 + number)
        )
        stream.append(b"data %d\n%s\n" % (len(said), said))
        for path, text in files.items():
            content = text.encode()
            stream.append(
                b"M 100644 inline %s\ndata %d\n%s\n" % (str(path.relative_to(folder)).encode(), len(content), content)
            )
        if number == 0:
            stream.append(b"reset refs/tags/v1\nfrom :1\n")
    subprocess.run(["git", "-C", str(folder), "init", "--quiet"], check=True, capture_output=True)
    subprocess.run(
        ["git", "-C", str(folder), "fast-import", "--quiet"], check=True, input=b"".join(stream), capture_output=True
    )
    return Repository(folder)


def _fails(layout: _Layout, path: Path, fault: Fault) -> bool:
    was = path.read_text("utf-8")
    try:
        text = planted(was, fault)
        compile(text, str(path), "exec", dont_inherit=True)
        path.write_text(text, "utf-8")
        return bool(layout.run())
    except (SyntaxError, LookupError, ValueError):
        return False
    finally:
        path.write_text(was, "utf-8")


def _edit(path: Path, dice: random.Random) -> None:
    """Change a file without changing what it does: a line that does nothing, a comment, or a helper that nobody calls."""
    text = path.read_text("utf-8")
    if dice.random() < 0.25:
        path.write_text(f"{text}\n\ndef helper_{dice.randrange(10**6)}(pier):\n    return pier\n", "utf-8")
        return
    # Only before a statement of a function, on a line of its own.
    inside = [
        (node.lineno, node.col_offset)
        for function in ast.walk(ast.parse(text))
        if isinstance(function, ast.FunctionDef)
        for node in function.body[1:]
    ]
    if not inside:
        path.write_text(f"{text}\n# Mind the tide.\n", "utf-8")
        return
    line, indent = dice.choice(inside)
    said = "..." if dice.random() < 0.6 else f"# Mind the tide ({dice.randrange(1000)})."
    lines = text.splitlines(keepends=True)
    lines[line - 1 : line - 1] = [f"{' ' * indent}{said}\n" for _ in range(dice.randint(1, 3))]
    path.write_text("".join(lines), "utf-8")


def measure(folder: Path, apps: tuple[str, ...] = TUNING + TEST) -> None:
    """Print how often the planted commit is first, and among the first three."""
    found: Counter[str] = Counter()
    places: list[int | None] = []
    for app, place in ranks(folder, apps):
        places.append(place)
        found[app] += 1
    first, three = sum(p == 1 for p in places), sum(p is not None and p <= 3 for p in places)
    print(f"planted faults: {len(places)} in {len(found)} libraries, one commit of {COMMITS} each")
    print(
        f"the planted commit is first in {first / len(places):.1%}, among the first three in {three / len(places):.1%}, not among five in {sum(p is None for p in places) / len(places):.1%}"
    )
