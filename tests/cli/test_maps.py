"""``obitus maps``: a pipeline sends what a build wrote, once, and says what it left out."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.cli.shell import Shell, words
from tests.conftest import Running
from tests.core.maps.writing import map_of


@pytest.fixture
def dist(tmp_path: Path) -> Path:
    """What a build wrote: two files with maps, and others."""
    folder = tmp_path / "dist"
    (folder / "assets").mkdir(parents=True)
    (folder / "index.html").write_text("<!doctype html>")
    for name in ("page", "gate"):
        (folder / "assets" / f"{name}.js").write_text(f"//# sourceMappingURL={name}.js.map")
        made = map_of([[(0, 0, 0, 0)]], [f"../../src/{name}.ts"], sourcesContent=["export const open = true;\n"])
        (folder / "assets" / f"{name}.js.map").write_text(json.dumps(made))
    return folder


def test_what_a_build_wrote_is_sent_once(running: Running, shell: Shell, dist: Path) -> None:
    """Only what changed goes again; each release has its own; removed is removed."""
    running.add_app("pierboard")
    add = ("maps", "add", str(dist), "--app", "pierboard", "--release", "3.1.0")
    assert "No source map of pierboard yet." in words(shell.run("maps", "list", "--app", "pierboard"))
    said = words(shell.run(*add))
    assert "1 of 2 assets/gate.js" in said and "2 maps of pierboard 3.1.0 sent, 0 there already." in said
    assert "0 maps of pierboard 3.1.0 sent, 2 there already." in words(shell.run(*add))
    path = dist / "assets" / "page.js.map"
    path.write_text(path.read_text().replace("true", "false"))
    assert json.loads(shell.run(*add, "--json")) == {
        "release": "3.1.0", "sent": 1, "already_there": 1, "said": "No failure came before these maps.", "troubles": [],
    }  # fmt: skip
    listed = words(shell.run("maps", "list", "--app", "pierboard"))
    assert "3.1.0 2 maps" in listed and "with their source" in listed
    assert "2 maps of pierboard 3.1.0 removed." in shell.run(
        "maps", "remove", "--app", "pierboard", "--release", "3.1.0"
    )


def test_the_source_may_stay_at_home(running: Running, shell: Shell, dist: Path) -> None:
    """Places alone are sent, of index maps too."""
    running.add_app("pierboard")
    inner = json.loads((dist / "assets" / "page.js.map").read_text())
    index = {"version": 3, "sections": [{"offset": {"line": 0, "column": 0}, "map": inner}]}
    (dist / "assets" / "page.js.map").write_text(")]}'\n" + json.dumps(index))
    shell.run("maps", "add", str(dist), "--app", "pierboard", "--release", "3.1.0", "--without-source")
    (release,) = running.get("/api/apps/pierboard/maps")["releases"]
    assert (release["maps"], release["with_text"]) == (2, 0)


def test_what_cannot_be_sent_is_said(running: Running, shell: Shell, dist: Path, tmp_path: Path) -> None:
    """A map that is cut off or lies is left out, and the command ends with status 1; the others are there."""
    running.add_app("pierboard")
    (dist / "cut.js.map").write_text('{"version": 3, "sources": [')
    (dist / "lies.js.map").write_text(json.dumps(map_of([]) | {"mappings": "AA"}))
    said = words(shell.run("maps", "add", str(dist), "--app", "pierboard", "--release", "3.1.0", status=1))
    assert "cut.js.map:leftout" in said.replace(" ", "") and "lies.js: The map of lies.js is not taken" in said
    assert "2 maps of pierboard 3.1.0 sent" in said
    (tmp_path / "empty").mkdir()
    assert "holds no source map" in words(
        shell.run("maps", "add", str(tmp_path / "empty"), "--app", "pierboard", "--release", "1", status=2)
    )
    assert "is no folder" in words(shell.run("maps", "add", str(tmp_path / "gone"), "--release", "1", status=2))


def test_a_pipeline_needs_a_key_that_may_deploy(running: Running, shell: Shell, dist: Path) -> None:
    """Its address and the key are all that it needs."""
    key = running.add_app("pierboard", may_deploy=True)
    plain = running.ask("POST", "/api/apps/pierboard/keys", {"environment": "staging"}).json()["key"]
    add = ("maps", "add", str(dist), "--release", "3.1.0")
    where = {"OBITUS_URL": running.url, "OBITUS_TOKEN": ""}
    assert "--app NAME" in words(shell.run(*add, status=2, OBITUS_KEY=key, **where))
    assert "2 maps" in shell.run(*add, "--app", "pierboard", OBITUS_KEY=key, **where)
    shell.run(*add, "--app", "pierboard", status=4, OBITUS_KEY=plain, **where)
