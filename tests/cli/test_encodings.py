"""Terminals and files that cannot show every character, and documents that come in pieces."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from io import BytesIO, TextIOWrapper

import pytest

from obitus.cli import safe
from obitus.cli.writing import print_whole
from tests.cli.shell import Shell
from tests.conftest import Running, failure, raised_in

ISLES = "no berth at Ørnes ✓ 数"


@pytest.mark.parametrize("encoding", ["latin-1", "ascii", "cp1252", "utf-8"])
def test_every_terminal_is_told_what_it_can_show(running: Running, shell: Shell, encoding: str) -> None:
    """Signs have something in their place, other characters a question mark; JSON has escapes, and documents are UTF-8."""
    running.send(running.add_app(), failure(exceptions=raised_in("sailings.fares", "surcharge", "FareUnknown", ISLES)))
    environment = os.environ | shell.environment | {"PYTHONIOENCODING": encoding}

    def said(*words: str) -> bytes:
        """Not by a process that has everything loaded already: how it writes is decided at its start."""
        done = subprocess.run([sys.executable, "-m", "obitus", *words], env=environment, capture_output=True)
        assert b"Traceback" not in done.stderr, done.stderr
        return done.stdout

    safe.show_what_can_be_shown()
    assert ISLES.encode(encoding, "obitus-instead") in said("issue", "1")
    assert b"obitus read [OPTIONS]" in said("read", "--help") and said("doctor")
    (issue,) = json.loads(said("issues", "--json"))["issues"]
    assert issue["message"] == ISLES
    assert ISLES in said("document", "1").decode("utf-8")


def test_signs_have_something_in_their_place(monkeypatch: pytest.MonkeyPatch) -> None:
    """Also a name of a file that is no text, which no encoding has."""
    written = BytesIO()
    monkeypatch.setattr(sys, "stdout", TextIOWrapper(written, "latin-1"))
    safe.show_what_can_be_shown()
    sys.stdout.write("✓ “Ørnes” … 数 a\udcff.log")
    sys.stdout.flush()
    assert written.getvalue() == '+ "Ørnes" ... ? a?.log'.encode("latin-1")
    monkeypatch.setattr(sys, "stdout", TextIOWrapper(written, "utf-8"))
    safe.show_what_can_be_shown()
    sys.stdout.write("✓ a\udcff")
    sys.stdout.flush()
    assert written.getvalue().endswith("✓ a?".encode())


def test_pieces_may_end_anywhere(capsysbinary: pytest.CaptureFixture[bytes]) -> None:
    """A document comes in pieces of so many bytes, some in the middle of a character."""
    whole = ISLES.encode() * 3
    print_whole([whole[place : place + 5] for place in range(0, len(whole), 5)])
    assert capsysbinary.readouterr().out == whole


def test_a_terminal_gets_no_control_codes(monkeypatch: pytest.MonkeyPatch) -> None:
    """What a report says must not move the cursor, nor colour the screen."""
    written = BytesIO()
    terminal = TextIOWrapper(written, "utf-8")
    monkeypatch.setattr(terminal, "isatty", lambda: True)
    monkeypatch.setattr(sys, "stdout", terminal)
    whole = "gate \x1b[31m7 Ørnes\n".encode()
    print_whole([whole[:12], whole[12:13], whole[13:]])
    terminal.flush()
    assert written.getvalue().decode() == "gate \ufffd[31m7 Ørnes\n"
