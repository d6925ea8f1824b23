"""Lock files of several tools, as they write them; and files that are not what their name says."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.changes.commits import LibraryChange
from obitus.core.changes.libraries import MOST_BYTES, changed, is_lock_file, versions

LOCKS: list[tuple[str, str, dict[str, str]]] = [
    ("package-lock.json", json.dumps({"lockfileVersion": 1, "dependencies": {"tides": {"version": "1.2.0"}, "@skerry/gate": {"version": "2.0.1"}, "odd": "1"}}), {"tides": "1.2.0", "@skerry/gate": "2.0.1"}),
    ("npm-shrinkwrap.json", json.dumps({"packages": {"": {"name": "pier", "version": "9"}, "node_modules/a/node_modules/@skerry/gate": {"version": "2.0.1"}, "node_modules/linked": {"link": True}}}), {"@skerry/gate": "2.0.1"}),
    ("packages.lock.json", json.dumps({"version": 1, "dependencies": {"net8.0": {"Skerry.Tides": {"type": "Direct", "resolved": "3.4.5"}, "Skerry.Gate": {"type": "Project"}}}}), {"Skerry.Tides": "3.4.5"}),
    ("gradle.lockfile", "# made by a tool\norg.skerry:tides:1.2.3=compileClasspath,runtimeClasspath\nempty=\n", {"org.skerry:tides": "1.2.3"}),
    ("pom.xml", "<dependency>\n <groupId>org.skerry</groupId>\n <artifactId>tides</artifactId>\n <version>1.2.3</version>\n</dependency>", {"org.skerry:tides": "1.2.3"}),
    ("requirements/server.txt", "tides==1.2.3 \\\n    --hash=sha256:00\nGate[fast]===2.0 ; python_version > '3'\n# no==1\n-r other.txt\n", {"tides": "1.2.3", "Gate": "2.0"}),
    ("constraints-3.11.txt", "tides == 1.2.3  # pinned\n", {"tides": "1.2.3"}),
    ("uv.lock", '[[package]]\nname = "tides"\nversion = "1.2.3"\n[[package]]\nname = "linked"\nsource = { editable = "." }\n', {"tides": "1.2.3"}),
    ("pylock.toml", '[[package]]\nname = "tides"\nversion = "1.2.3"\n', {"tides": "1.2.3"}),
    ("composer.lock", json.dumps({"packages": [{"name": "skerry/tides", "version": "v1.2.3"}], "packages-dev": [{"name": "skerry/probe", "version": "4"}]}), {"skerry/tides": "1.2.3", "skerry/probe": "4"}),
    ("Pipfile.lock", json.dumps({"default": {"tides": {"version": "==1.2.3"}, "local": {"path": "."}}, "develop": {"probe": {"version": "==4"}}}), {"tides": "1.2.3", "probe": "4"}),
    ("go.mod", "module skerry.example/gate\n\ngo 1.22\n\nrequire skerry.example/tides v1.2.3\n\nrequire (\n\tskerry.example/pier/v2 v2.0.1 // indirect\n)\n", {"skerry.example/tides": "1.2.3", "skerry.example/pier/v2": "2.0.1"}),
    ("yarn.lock", '"@skerry/gate@^2.0.0", "@skerry/gate@^2.0.1":\n  version "2.0.1"\n\ntides@npm:^1.2:\n  version: 1.2.3\n', {"@skerry/gate": "2.0.1", "tides": "1.2.3"}),
    ("pnpm-lock.yaml", "packages:\n\n  '@skerry/gate@2.0.1':\n    resolution: {}\n\n  tides@1.2.3(pier@9.0.0):\n    resolution: {}\n", {"@skerry/gate": "2.0.1", "tides": "1.2.3"}),
]  # fmt: skip


@pytest.mark.parametrize(("path", "text", "wanted"), LOCKS, ids=[path for path, _, _ in LOCKS])
def test_what_a_lock_file_pins(path: str, text: str, wanted: dict[str, str]) -> None:
    """Libraries and versions, without what is linked, local, or a comment; in any folder."""
    assert versions(path, text) == wanted
    folder = "deploy/" if "/" not in path else ""
    assert is_lock_file(folder + path) and versions(folder + path, text) == wanted


@pytest.mark.parametrize("path", ["notes.txt", "requirements.md", "package.json", "lock", "src/composer.lock.py"])
def test_what_pins_nothing(path: str) -> None:
    """Files of other names are not read."""
    assert not is_lock_file(path) and versions(path, "tides==1.2.3\n") == {}


def test_what_changed() -> None:
    """What came, what went, what has another version; what stayed is not told."""
    before, after = "tides==1.2.3\ngate==2.0\npier==9\n", "tides==1.3.0\npier==9\nprobe==4\n"
    assert changed("requirements.txt", before, after) == [
        LibraryChange("gate", "2.0", ""), LibraryChange("probe", "", "4"), LibraryChange("tides", "1.2.3", "1.3.0"),
    ]  # fmt: skip
    assert changed("requirements.txt", "", " " * (MOST_BYTES + 1)) == []


JSON = st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=8), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["packages", "packages-dev", "dependencies", "default", "develop", "node_modules/x", "name", "version", "resolved", ""]), inner, max_size=4), max_leaves=20)  # fmt: skip


@given(st.sampled_from([path for path, _, _ in LOCKS]), JSON, st.text(max_size=60))
def test_any_content_is_survived(path: str, content: Any, text: str) -> None:
    """A file that is not what its name says pins nothing, or what could be read; nothing is raised."""
    for one in (json.dumps(content), text):
        found = versions(path, one)
        assert all(isinstance(name, str) and isinstance(version, str) for name, version in found.items())
