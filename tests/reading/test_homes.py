"""Where a user's own files are."""

from __future__ import annotations

from pathlib import Path

import pytest

from obitus.reading.homes import folder_of


def test_the_named_folder_or_the_usual_one(monkeypatch: pytest.MonkeyPatch) -> None:
    """A relative one is to be ignored."""
    monkeypatch.setenv("HOME", "/home/ida")
    for named, folder in (("/var/own", "/var/own"), ("", "/home/ida/.config"), ("own", "/home/ida/.config")):
        monkeypatch.setenv("XDG_CONFIG_HOME", named)
        assert folder_of("XDG_CONFIG_HOME", ".config") == Path(folder)


def test_nobody_is_at_home(monkeypatch: pytest.MonkeyPatch) -> None:
    """The user of a container need not be known there."""

    def unknown(_: int) -> None:
        raise KeyError("getpwuid(): uid not found")

    monkeypatch.delenv("HOME", raising=False)
    monkeypatch.delenv("XDG_CONFIG_HOME", raising=False)
    monkeypatch.setattr("pwd.getpwuid", unknown)
    assert folder_of("XDG_CONFIG_HOME", ".config") is None
