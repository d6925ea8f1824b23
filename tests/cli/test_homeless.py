"""A user without a home folder, such as the number that a container runs as."""

from __future__ import annotations

from pathlib import Path

import pytest

from obitus.cli import login
from obitus.cli.errors import NotAllowed, UsageTrouble
from obitus.cli.login import Login
from obitus.reading.marks import Marks


@pytest.fixture(autouse=True)
def _homeless(monkeypatch: pytest.MonkeyPatch) -> None:
    def unknown(_: int) -> None:
        raise KeyError("getpwuid(): uid not found")

    for name in ("HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "OBITUS_LOGIN", "OBITUS_URL", "OBITUS_TOKEN"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setattr("pwd.getpwuid", unknown)


def test_the_service_can_be_named(monkeypatch: pytest.MonkeyPatch) -> None:
    """By the environment; without it, nobody is signed in."""
    with pytest.raises(NotAllowed, match="no service is known"):
        login.find(None, None)
    monkeypatch.setenv("OBITUS_URL", "http://obitus.skerry.example")
    monkeypatch.setenv("OBITUS_TOKEN", "otok_x")
    assert login.find(None, None) == Login("http://obitus.skerry.example", "otok_x")


def test_signing_in_needs_a_place(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """It says which variable names one."""
    here = Login("http://obitus.skerry.example", "otok_x")
    with pytest.raises(UsageTrouble, match="Set OBITUS_LOGIN"):
        login.write(here)
    monkeypatch.setenv("OBITUS_LOGIN", str(tmp_path / "login.json"))
    assert login.write(here) == tmp_path / "login.json" and login.find(None, None) == here


def test_files_are_read_all_the_same() -> None:
    """Their positions are known as long as the command runs."""
    marks = Marks("here")
    head = b"x" * 2000
    marks.set(marks.identity_of(head), 5000, head)
    assert marks.place_of(marks.identity_of(head), 9000) == 5000
    assert Marks("here").place_of(marks.identity_of(head), 9000) == 0
