"""From git's output to places and names, and from lock files to versions."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.changes.libraries import changed, versions
from obitus.core.changes.reading import MARK, commits_from, names_in

HEAD = f"{MARK}{'a' * 40}\x011790000000\x01Ida Moss\x01"


def patch(*hunks: str, path: str = "sailings/fares.py", before: str | None = None) -> list[str]:
    old = before or path
    renamed = [f"rename from {old}", f"rename to {path}"] if before else []
    return [f"diff --git a/{old} b/{path}", *renamed, "index 1..2 100644", f"--- a/{old}", f"+++ b/{path}", *hunks]


def test_lines_are_moved_along() -> None:
    """What an early commit touched stands further down after a later one put lines in above it; what was changed again is that."""
    (first, _, _) = commits_from(
        [HEAD + "one", *patch("@@ -10 +10 @@ def surcharge(kind):", "-    old", "+    new", "@@ -20,2 +19,0 @@ def board():", "-    a", "-    b"),
         HEAD + "two", *patch("@@ -0,0 +1,5 @@", *["+x"] * 5),
         HEAD + "three", *patch("@@ -24,1 +24,3 @@ def board():", "-c", *["+y"] * 3)]
    )  # fmt: skip
    assert list(first.files[0].ranges) == [(15, 15), (27, 26)]
    assert (
        first.files[0].names == ("surcharge", "board")
        and first.time_ms == 1_790_000_000_000
        and first.author == "Ida Moss"
    )


def test_names_of_files() -> None:
    """A renamed file is known by what it is called in the release; spaces, binary files and modes do no harm."""
    found = commits_from(
        [HEAD + "one", *patch("@@ -1 +1 @@", "-a", "+b", path="old name.py"),
         HEAD + "two", *patch(path="new name.py", before="old name.py"),
         "diff --git a/piers.png b/piers.png", "Binary files a/piers.png and b/piers.png differ",
         "diff --git a/run.sh b/run.sh", "old mode 100644", "new mode 100755",
         "diff --git a/gone.py b/gone.py", "deleted file mode 100644", "--- a/gone.py", "+++ /dev/null", "@@ -1,3 +0,0 @@", "-def gone():"]
    )  # fmt: skip
    assert [file.path for file in found[0].files] == ["new name.py"]
    assert [file.path for file in found[1].files] == ["new name.py", "piers.png", "run.sh", "gone.py"]


def test_a_merge_of_its_own() -> None:
    """The combined form that git gives for what only the merge changed is read too."""
    (merge,) = commits_from([HEAD + "merge", "diff --cc sailings/fares.py", "index 1,2..3", "--- a/sailings/fares.py", "+++ b/sailings/fares.py", "@@@ -5,1 -6,1 +5,2 @@@ def fare():", "- a", " -b", "++c", "++d"])  # fmt: skip
    assert (merge.files[0].path, list(merge.files[0].ranges), merge.files[0].names) == (
        "sailings/fares.py",
        [(5, 6)],
        ("fare",),
    )


@given(st.lists(st.one_of(st.text(max_size=40), st.sampled_from([HEAD + "x", *patch("@@ -1,2 +1,0 @@ def f():", "-def g():"), "@@ -0,0 +1,9999999 @@", "@@@ -1 -1 +1 @@@", "diff --cc ", "diff --git "])), max_size=30))  # fmt: skip
def test_anything_may_stand_in_a_patch(lines: list[str]) -> None:
    """Whatever git prints, reading ends and never raises, and no line of source is kept."""
    for commit in commits_from(lines):
        for file in commit.files:
            assert all(first <= last + 1 for first, last in file.ranges)


@pytest.mark.parametrize(
    ("line", "name"),
    [
        ("    async def depth_at(self, pier):", "depth_at"), ("class Boarding(Step):", "Boarding"), ("DEPTHS: dict[str, int] = {", "DEPTHS"),
        ("func (b *Boat) Board(ctx context.Context) error {", "Board"), ("pub async fn depth_at(pier: &str) -> f64 {", "depth_at"),
        ("export default function quote(kind) {", "quote"), ("export const FARES = {", "FARES"), ("  public static int surcharge(String kind) {", "surcharge"),
        ("  def self.board(name)", "board"), ("    override suspend fun board(name: String) {", "board"), ("sub depth_at {", "depth_at"),
        ("  board(passenger) {", "board"), ("    private function board(array $rows): int", "board"), ("    public async Task<Pass> Print(string name)", "Print"),
        ("def ødelagt(skip):", "ødelagt"), ("Åpning = 4", "Åpning"), ("export const größe = 3", "größe"), ("  fun 料金(kind: String) {", "料金"),
    ],
)  # fmt: skip
def test_how_languages_begin(line: str, name: str) -> None:
    """The function, class or constant that a line begins, in nine languages."""
    assert names_in(line) == [name]


@pytest.mark.parametrize("line", ["    if (kind) {", "    return fares[kind]", "    for (const x of y) {", "", "# def quote()", "    fares == 3", "    while (true) {"])  # fmt: skip
def test_what_begins_nothing(line: str) -> None:
    """Statements have no name of their own."""
    assert names_in(line) == []


LOCKS = [
    ("requirements.txt", "jinja2==3.1.2\nURLLIB3 == 2.0 \\\n  --hash=sha256:0\n", "jinja2==3.1.4\nURLLIB3 == 2.0\n"),
    ("requirements/server.txt", "jinja2[i18n]==3.1.2 ; python_version>'3'\n", "jinja2==3.1.4\n"),
    ("poetry.lock", '[[package]]\nname = "jinja2"\nversion = "3.1.2"\n', '[[package]]\nname = "jinja2"\nversion = "3.1.4"\n'),
    ("web/package-lock.json", json.dumps({"packages": {"": {"version": "1"}, "node_modules/jinja2": {"version": "3.1.2"}}}), json.dumps({"packages": {"node_modules/jinja2": {"version": "3.1.4"}}})),
    ("composer.lock", json.dumps({"packages": [{"name": "jinja2", "version": "v3.1.2"}]}), json.dumps({"packages": [{"name": "jinja2", "version": "v3.1.4"}]})),
    ("Gemfile.lock", "GEM\n  specs:\n    jinja2 (3.1.2)\n      rack (>= 2)\n", "GEM\n  specs:\n    jinja2 (3.1.4)\n"),
    ("yarn.lock", 'jinja2@^3.1:\n  version "3.1.2"\n', 'jinja2@^3.1:\n  version "3.1.4"\n'),
    ("pnpm-lock.yaml", "packages:\n\n  jinja2@3.1.2:\n    resolution: {}\n", "packages:\n\n  jinja2@3.1.4:\n"),
    ("Pipfile.lock", json.dumps({"default": {"jinja2": {"version": "==3.1.2"}}}), json.dumps({"default": {"jinja2": {"version": "==3.1.4"}}})),
    ("Cargo.lock", '[[package]]\nname = "jinja2"\nversion = "3.1.2"\n', '[[package]]\nname = "jinja2"\nversion = "3.1.4"\n'),
]  # fmt: skip


@pytest.mark.parametrize(("path", "before", "after"), LOCKS)
def test_lock_files(path: str, before: str, after: str) -> None:
    """What changed between two texts of a lock file, in the forms of several tools."""
    (change,) = changed(path, before, after)
    assert (change.name, change.before, change.after) == ("jinja2", "3.1.2", "3.1.4")
    assert changed(path, after, after) == [] and changed(path, "", after)[0].before == ""


def test_go_names_modules_whole() -> None:
    """Go's modules keep their path; what is no lock file, or broken, holds nothing."""
    assert versions("go.mod", "require (\n\tgithub.com/skerry/tides v1.2.0\n)\n") == {
        "github.com/skerry/tides": "1.2.0"
    }
    assert versions("sailings/fares.py", "jinja2==3.1.2") == {} and versions("package-lock.json", "{") == {}
