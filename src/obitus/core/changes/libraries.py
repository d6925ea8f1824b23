"""Lock files: the libraries of an app and their versions, and the differences of two of them."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Callable, Iterator
from typing import Any, Final

from obitus.core.changes.commits import LibraryChange

MOST_BYTES: Final = 20_000_000
_PIN = re.compile(r"^[ \t]*+([A-Za-z0-9][\w.-]*+)(?:\[[^\]\n]*+\])?[ \t]*+===?[ \t]*+([^\s;#\\]+)", re.MULTILINE)
_GO = re.compile(r"^[ \t]*+(?:require[ \t]++)?([\w-]*+\.[\w.-]*+/\S++)[ \t]++v(\S+)", re.MULTILINE)
_GEM = re.compile(r"^ {4}([\w.-]+) \(([^)]+)\)$", re.MULTILINE)
_YARN = re.compile(r'^"?((?:@[^@\s"/]+/)?[^@\s"]+)@[^\n]*:\n\s+version:? "?([^"\s]+)', re.MULTILINE)
_PNPM = re.compile(r"^ {2}'?+/?+((?:@[^@\s'/]++/)?+[^@\s'/]++)@([^:\s'(]++)[^:\n]*+:", re.MULTILINE)
_MAVEN = re.compile(
    r"<groupId>\s*([^<\s]+)\s*</groupId>\s*<artifactId>\s*([^<\s]+)\s*</artifactId>\s*<version>\s*([^<\s]+)\s*</version>"
)
_GRADLE = re.compile(r"^([\w.-]+:[\w.-]+):([^=\s]+)=", re.MULTILINE)


def _json_packages(text: str) -> Iterator[tuple[str, str]]:
    data = json.loads(text)
    for path, package in data.get("packages", {}).items():
        if isinstance(package, dict) and path and "version" in package:
            yield package.get("name") or path.rpartition("node_modules/")[2], str(package["version"])
    if not data.get("packages"):
        yield from _json_dependencies(data.get("dependencies", {}))


def _json_dependencies(dependencies: Any) -> Iterator[tuple[str, str]]:
    for name, package in dependencies.items() if isinstance(dependencies, dict) else ():
        if isinstance(package, dict) and "version" in package:
            yield name, str(package["version"])


def _toml_packages(text: str) -> Iterator[tuple[str, str]]:
    for package in tomllib.loads(text).get("package", ()):
        if isinstance(package, dict) and "name" in package and "version" in package:
            yield str(package["name"]), str(package["version"])


def _php_packages(text: str) -> Iterator[tuple[str, str]]:
    data = json.loads(text)
    for package in [*data.get("packages", ()), *data.get("packages-dev", ())]:
        yield str(package["name"]), str(package["version"]).removeprefix("v")


def _pipenv(text: str) -> Iterator[tuple[str, str]]:
    data = json.loads(text)
    for part in ("default", "develop"):
        for name, package in data.get(part, {}).items():
            if isinstance(package, dict) and "version" in package:
                yield name, str(package["version"]).lstrip("=")


def _dotnet(text: str) -> Iterator[tuple[str, str]]:
    for group in json.loads(text).get("dependencies", {}).values():
        for name, package in group.items():
            if isinstance(package, dict) and "resolved" in package:
                yield name, str(package["resolved"])


def _by(pattern: re.Pattern[str]) -> Callable[[str], Iterator[tuple[str, str]]]:
    return lambda text: ((found[1], found[2]) for found in pattern.finditer(text))


_READERS: Final[tuple[tuple[re.Pattern[str], Callable[[str], Iterator[tuple[str, str]]]], ...]] = (
    (re.compile(r"package-lock\.json|npm-shrinkwrap\.json"), _json_packages),
    (re.compile(r"(?:poetry|uv|pdm|[Cc]argo)\.lock|pylock(?:\.\w+)?\.toml"), _toml_packages),
    (re.compile(r"composer\.lock"), _php_packages),
    (re.compile(r"Pipfile\.lock"), _pipenv),
    (re.compile(r"packages\.lock\.json"), _dotnet),
    (re.compile(r"(?:requirements|constraints)[\w.-]{0,100}\.txt|[\w.-]{0,100}requirements\.txt"), _by(_PIN)),
    (re.compile(r"go\.mod"), _by(_GO)),
    (re.compile(r"Gemfile\.lock"), _by(_GEM)),
    (re.compile(r"yarn\.lock"), _by(_YARN)),
    (re.compile(r"pnpm-lock\.yaml"), _by(_PNPM)),
    (re.compile(r"gradle\.lockfile"), _by(_GRADLE)),
    (re.compile(r"pom\.xml"), lambda text: ((f"{m[1]}:{m[2]}", m[3]) for m in _MAVEN.finditer(text))),
)


def is_lock_file(path: str) -> bool:
    """Whether a file's name is that of a supported lock file."""
    name, folder = path.rpartition("/")[2], path.rpartition("/")[0].rpartition("/")[2]
    return _reader(name) is not None or (folder == "requirements" and name.endswith(".txt"))


def versions(path: str, text: str) -> dict[str, str]:
    """Return library to version as a lock file pins them; unreadable entries are left out."""
    reader = _reader(path.rpartition("/")[2]) or (_by(_PIN) if is_lock_file(path) else None)
    if reader is None or len(text) > MOST_BYTES:
        return {}
    try:
        return dict(reader(text))
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return {}


def changed(path: str, before: str, after: str) -> list[LibraryChange]:
    """Return the libraries that were added, removed, or changed their version between two texts of a lock file."""
    was, is_ = versions(path, before), versions(path, after)
    return [
        LibraryChange(name, was.get(name, ""), is_.get(name, ""))
        for name in sorted(was.keys() | is_.keys())
        if was.get(name) != is_.get(name)
    ]


def _reader(name: str) -> Callable[[str], Iterator[tuple[str, str]]] | None:
    return next((reader for pattern, reader in _READERS if pattern.fullmatch(name)), None)
