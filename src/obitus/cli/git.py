"""The commits of a release, read by git on the machine that has the repository; source stays there."""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Final

from obitus.cli.errors import CliError, UsageTrouble
from obitus.core.changes.commits import Commit, LibraryChange
from obitus.core.changes.libraries import MOST_BYTES, changed, is_lock_file
from obitus.core.changes.reading import FORMAT, commits_from

MOST_COMMITS: Final = 5000
MOST_LOCK_FILES: Final = 200
GIT_TIMEOUT_S: Final = 300
_SAFE: Final = ("-c", "core.quotePath=off", "-c", "core.fsmonitor=false", "-c", "log.showSignature=false", "-c", "diff.suppressBlankEmpty=false", "-c", "color.ui=false")  # fmt: skip
# Suffixes for git's own drivers that find the function around a change; without them git knows only languages like C.
_DRIVERS: Final = "\n".join(
    f"*.{ending} diff={driver}"
    for ending, driver in (
        ("py", "python"), ("pyi", "python"), ("java", "java"), ("kt", "kotlin"), ("kts", "kotlin"), ("cs", "csharp"), ("go", "golang"), ("rb", "ruby"),
        ("php", "php"), ("rs", "rust"), ("pl", "perl"), ("pm", "perl"), ("c", "cpp"), ("h", "cpp"), ("cc", "cpp"), ("cpp", "cpp"), ("hpp", "cpp"),
    )
)  # fmt: skip
# What git sets for its hooks: it would hold in place of the folder that is named.
_OF_A_REPOSITORY: Final = ("GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE", "GIT_PREFIX", "GIT_OBJECT_DIRECTORY", "GIT_ALTERNATE_OBJECT_DIRECTORIES", "GIT_COMMON_DIR", "GIT_NAMESPACE")  # fmt: skip
_HASH = re.compile(r"[0-9a-f]{40,64}")


@dataclass(frozen=True, slots=True)
class Read:
    """The commits of a release, oldest first, and remarks about them."""

    commits: list[Commit]
    notes: list[str]


class Repository:
    """A git repository on this machine."""

    def __init__(self, path: Path) -> None:
        self._path = path
        if not path.exists():
            raise UsageTrouble(f"{path}: there is no such folder. Give the folder of a git repository.")
        try:
            self._ask("rev-parse", "--git-dir")
        except CliError as error:
            raise UsageTrouble(f"{path} is no git repository ({error}). Give the folder of the repository.") from error
        self.shallow = self._ask("rev-parse", "--is-shallow-repository").strip() == "true"

    def revision(self, name: str) -> str | None:
        """Return the commit of a branch, tag or hash, or None."""
        if name.startswith("-"):
            return None
        try:
            commit = self._ask("rev-parse", "--verify", "--quiet", "--end-of-options", f"{name}^{{commit}}").strip()
        except CliError:
            return None
        return commit if _HASH.fullmatch(commit) else None

    def tag_of(self, version: str) -> str | None:
        """Return the commit of a release's tag, if there is one."""
        for name in (f"v{version}", version, f"release-{version}", f"release/{version}"):
            commit = self.revision(f"refs/tags/{name}")
            if commit is not None:
                return commit
        return None

    def tag_before(self, revision: str) -> str | None:
        """Return the name of the nearest tag before a commit, or None."""
        try:
            return self._ask("describe", "--tags", "--abbrev=0", f"{revision}^").strip() or None
        except CliError:
            return None

    def is_before(self, earlier: str, later: str) -> bool:
        """Whether one commit is an ancestor of another."""
        try:
            self._ask("merge-base", "--is-ancestor", earlier, later)
        except CliError:
            return False
        return True

    def commits(self, since: str | None, revision: str) -> Read:
        """Read the commits of a release; merges count only with their own changes."""
        span = f"{since}..{revision}" if since else revision
        notes = []
        count = int(self._ask("rev-list", "--count", span).strip() or 0)
        if count > MOST_COMMITS:
            notes.append(
                f"{count:,} commits; the newest {MOST_COMMITS:,} are reported. Say --since nearer to the release."
            )
        if self.shallow and not (since is not None and self.is_before(since, revision)):
            notes.append(
                "This is a shallow clone: commits before its edge are not in it, and those at the edge look as if they had made everything. Fetch more: git fetch --unshallow."
            )
        commits = [self._with_libraries(commit) for commit in self._read(span)]
        if self.shallow:
            edge = self._edge()
            commits = [replace(commit, files=(), libraries=()) if commit.id in edge else commit for commit in commits]
        return Read(commits, notes)

    def _read(self, span: str) -> list[Commit]:
        with tempfile.NamedTemporaryFile("w", suffix=".attributes") as attributes:
            attributes.write(_DRIVERS)
            attributes.flush()
            command = [
                *self._command(), "-c", f"core.attributesFile={attributes.name}", "log", "--topo-order", "--reverse", f"--max-count={MOST_COMMITS}",
                f"--format={FORMAT}", "--cc", "--patch", "--unified=0", "-M", "--no-color", "--no-ext-diff",
                "--no-textconv", "--no-notes", "--src-prefix=a/", "--dst-prefix=b/", "--submodule=short", span, "--",
            ]  # fmt: skip
            return commits_from(self._lines(command))

    def _lines(self, command: Sequence[str]) -> Iterator[str]:
        # Not through a pipe: git would wait for somebody who reads it.
        with tempfile.TemporaryFile("w+", errors="replace") as said:
            process = subprocess.Popen(  # noqa: S603 - git, with arguments of ours
                command,
                stdout=subprocess.PIPE,
                stderr=said,
                stdin=subprocess.DEVNULL,
                env=_environment(),
                errors="replace",
            )
            assert process.stdout is not None
            with process:
                # Only line feeds end a line here: other line ends are part of the content.
                rest = ""
                while piece := process.stdout.read(1 << 20):
                    *lines, rest = (rest + piece).split("\n")
                    yield from lines
                if rest:
                    yield rest
            if process.returncode != 0:
                said.seek(0)
                raise CliError(f"git could not read the commits: {said.read(1000).strip()[:300]}")

    def _with_libraries(self, commit: Commit) -> Commit:
        locks = [file.path for file in commit.files if is_lock_file(file.path)][:MOST_LOCK_FILES]
        if not locks:
            return commit
        changes: dict[str, LibraryChange] = {}
        for path in locks:
            before, after = self._text(f"{commit.id}^", path), self._text(commit.id, path)
            changes.update({change.name: change for change in changed(path, before, after)})
        return replace(commit, libraries=tuple(changes.values())[:2000])

    def _text(self, revision: str, path: str) -> str:
        try:
            return self._ask("cat-file", "blob", f"{revision}:{path}")[:MOST_BYTES]
        except CliError:
            return ""

    def _edge(self) -> set[str]:
        try:
            shallow = Path(self._ask("rev-parse", "--git-path", "shallow").strip())
            return set((shallow if shallow.is_absolute() else self._path / shallow).read_text("ascii").split())
        except (OSError, ValueError):
            return set()

    def _command(self) -> list[str]:
        return ["git", "-C", str(self._path), *_SAFE]

    def _ask(self, *arguments: str) -> str:
        try:
            process = subprocess.run(  # noqa: S603
                [*self._command(), *arguments],
                capture_output=True,
                env=_environment(),
                timeout=GIT_TIMEOUT_S,
                check=False,
                stdin=subprocess.DEVNULL,
            )
        except FileNotFoundError as error:
            raise UsageTrouble("git is not installed here.") from error
        except subprocess.TimeoutExpired as error:
            raise CliError(f"git took longer than {GIT_TIMEOUT_S} s.") from error
        if process.returncode != 0:
            message = process.stderr.decode("utf-8", "replace").strip().removeprefix("fatal: ")
            raise CliError(message.partition("\n")[0][:300] or f"git ended with status {process.returncode}")
        return process.stdout.decode("utf-8", "replace")


def _environment() -> dict[str, str]:
    """Git's environment: no prompts, no changes, messages in English, and no other repository than the named one."""
    kept = {name: value for name, value in os.environ.items() if name not in _OF_A_REPOSITORY}
    return kept | {"GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "LC_ALL": "C.UTF-8", "GIT_PAGER": "cat"}
