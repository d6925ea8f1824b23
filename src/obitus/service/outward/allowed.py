"""Permissions by the owner of the machine for requests, commands and files outside: a file in the data folder, ``allowed.toml``, that no page can change.

commands = ["/usr/local/bin/page-night-desk"]
folders = ["/var/log/obitus"]
addresses = ["hooks.skerry.example", "10.1.2.3", "127.0.0.1:8025"]
"""

from __future__ import annotations

import os
import stat
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Final

NAME: Final = "allowed.toml"
_NAMES: Final = frozenset({"commands", "folders", "addresses"})


class NotAllowed(Exception):
    """The owner's file does not allow it; says what to write there."""


@dataclass(frozen=True, slots=True)
class Allowed:
    """What the file allows."""

    commands: frozenset[str] = frozenset()
    folders: tuple[Path, ...] = ()
    addresses: frozenset[str] = frozenset()
    """Names or addresses of hosts, with a port or for all ports, in lower case."""

    def host(self, host: str, port: int) -> bool:
        """Whether a host is allowed although its address is a private one."""
        name = host.lower()
        return name in self.addresses or f"{name}:{port}" in self.addresses


def as_own(path: str, flags: int) -> int:
    """Open a file, a new one for its owner alone: an ``opener`` for ``open``."""
    return os.open(path, flags, 0o600)


class AllowedFile:
    """The permissions, read again whenever the file was changed."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / NAME
        self._seen: tuple[int, int] | None = None
        self._found = Allowed()

    def read(self) -> Allowed:
        """Return the present permissions; raises NotAllowed where others can write the file, or it is invalid."""
        try:
            with self.path.open("rb") as file:
                status = os.fstat(file.fileno())
                others = status.st_mode & (stat.S_IWGRP | stat.S_IWOTH)
                if others or (hasattr(os, "getuid") and status.st_uid not in (0, os.getuid())):
                    raise NotAllowed(
                        f"{self.path} can be written by others: nothing in it counts until it is its owner's alone (chmod 600)"
                    )
                if (status.st_mtime_ns, status.st_ino) == self._seen:
                    return self._found
                content = tomllib.load(file)
        except FileNotFoundError:
            return Allowed()
        except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            raise NotAllowed(f"{self.path} cannot be read: {error}") from None
        self._found = self._understood(content)
        self._seen = status.st_mtime_ns, status.st_ino
        return self._found

    def command(self, command: str) -> str:
        """Return a command that may be run; raises NotAllowed."""
        if command not in self.read().commands:
            raise NotAllowed(
                f'the command {command!r} is not allowed here: the owner of the machine adds it to `commands = ["{command}"]` in {self.path}'
            )
        return command

    def file(self, path: Path) -> Path:
        """Return a file that may be written; raises NotAllowed. Links are resolved first."""
        real = path.parent.resolve() / path.name
        if real.is_symlink():
            real = real.resolve()
        if not any(real.is_relative_to(folder.resolve()) for folder in self.read().folders):
            raise NotAllowed(
                f'files in {path.parent} are not allowed here: the owner of the machine adds it to `folders = ["{path.parent}"]` in {self.path}'
            )
        return real

    def _understood(self, said: dict[str, object]) -> Allowed:
        if unknown := said.keys() - _NAMES:
            raise NotAllowed(
                f"{self.path}: {', '.join(sorted(unknown))} is not known; there are commands, folders and addresses"
            )
        lists: dict[str, list[str]] = {}
        for name in _NAMES:
            values = said.get(name, [])
            if not isinstance(values, list) or not all(isinstance(value, str) for value in values):
                raise NotAllowed(f'{self.path}: {name} is a list of texts: {name} = ["…"]')
            lists[name] = values
        return Allowed(
            frozenset(lists["commands"]),
            tuple(Path(folder) for folder in lists["folders"]),
            frozenset(address.lower() for address in lists["addresses"]),
        )
