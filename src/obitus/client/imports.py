"""Calls a function once a module has been imported by the app, without importing it."""

from __future__ import annotations

import importlib.util
import sys
import threading
from collections.abc import Callable, Sequence
from importlib.machinery import ModuleSpec
from types import ModuleType
from typing import Any

from obitus.client.exception_origin import is_the_apps
from obitus.client.log import warn

Installer = Callable[[ModuleType], None]


class AfterImport:
    """The first finder in ``sys.meta_path``: waits for a few modules, and finds no other."""

    def __init__(self, installers: dict[str, Installer]) -> None:
        self._installers = installers
        self._looking = threading.local()

    def begin(self) -> None:
        """Install for what was imported already, and look out for the rest."""
        for name, install in self._installers.items():
            module = sys.modules.get(name)
            if module is not None and getattr(getattr(module, "__spec__", None), "_initializing", False) is not True:
                _guarded(install, module)
        sys.meta_path.insert(0, self)

    def end(self) -> None:
        """Stop waiting."""
        if self in sys.meta_path:
            sys.meta_path.remove(self)

    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> ModuleSpec | None:
        """Return the module's own spec, with a loader that calls back; None for modules nobody waits for."""
        install = self._installers.get(name)
        if install is None or getattr(self._looking, "now", False):
            return None
        self._looking.now = True
        try:
            spec = importlib.util.find_spec(name)
        except (ImportError, AttributeError, ValueError) as interrupted:
            if is_the_apps(interrupted):
                raise
            return None
        finally:
            self._looking.now = False
        if spec is None or spec.loader is None or not hasattr(spec.loader, "exec_module"):
            return None
        spec.loader = _Loader(spec.loader, install)  # type: ignore[assignment]
        return spec


class _Loader:
    """A module's own loader; once the module is there it steps back."""

    def __init__(self, loader: Any, install: Installer) -> None:
        self._loader = loader
        self._install = install

    def __getattr__(self, name: str) -> Any:
        return getattr(self._loader, name)

    def create_module(self, spec: ModuleSpec) -> ModuleType | None:
        found: ModuleType | None = self._loader.create_module(spec)
        return found

    def exec_module(self, module: ModuleType) -> None:
        if module.__spec__ is not None:
            module.__spec__.loader = self._loader
        module.__loader__ = self._loader
        self._loader.exec_module(module)
        _guarded(self._install, module)


def _guarded(install: Installer, module: ModuleType) -> None:
    try:
        install(module)
    except Exception as error:
        if is_the_apps(error):
            raise
        # An unexpected version of the library: it is not watched, and the app continues.
        warn(f"Obitus: {module.__name__} is not watched ({type(error).__name__}: {error}).")
