"""Who owns which files: read as git reads patterns, the last line that matches, and only people who are known."""

from __future__ import annotations

import random
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.handing_over.owners import MOST_REMARKS, read_owners, who_is_meant

FILE = """\
# Everything that nobody else has.
*                     @skerry/desk

*.sql                 @Ida-Moss   # and its indexes
/src/sailings/        olav.brekke@skerry.example @ida-moss
/src/sailings/fares.py
/docs/*               @writers
**/gatekeeper/*.py    @jon
apps/**/berths        @eva
tide\\ tables/         @olav
"""


@pytest.mark.parametrize(
    ("path", "beneath", "line"),
    [
        ("README.md", "", 2),
        ("src/sailings/tides.py", "", 5),
        ("sailings/tides.py", "src", 5),
        ("sailings/tides.py", "/src/", 5),
        ("sailings/tides.py", "", 2),
        ("/srv/app/src/sailings/tides.py", "", 5),  # wherever the repository's root is
        ("C:\\apps\\src\\sailings\\tides.py", "", 5),
        ("/srv/app/sailings/tides.py", "src", 5),
        ("src/sailings/fares.py", "", 6),  # without an owner
        ("src/sailings/deep/schema.sql", "", 5),
        ("schema.sql", "", 4),
        ("docs/guide.md", "", 7),
        ("docs/deep/guide.md", "", 2),  # nothing deeper
        ("gatekeeper/passes.py", "", 8),
        ("a/b/gatekeeper/passes.py", "", 8),
        ("a/b/gatekeeper/c/passes.py", "", 2),
        ("apps/berths/x.py", "", 9),
        ("apps/a/b/berths", "", 9),
        ("tide tables/may.csv", "", 10),
        ("", "", None),
        ("/".join(["deep"] * 40), "", None),
    ],
)
def test_the_last_line_that_matches(path: str, beneath: str, line: int | None) -> None:
    """A path is looked up in the repository, or from each of its folders on where it is absolute."""
    found = read_owners(FILE).line_for(path, beneath)
    assert (found.number if found else None) == line
    if found is not None and line == 6:
        assert found.owners == ()


def test_what_cannot_be_read_is_said() -> None:
    """Each line that is left out is named, and the others count."""
    text = "!a @b\n[Fares] @c\n/x/[ab].py @d\n/y fares-team\nz @e\n/" + "q/" * 50 + " @f\n/ @g\n" + "w" * 3000 + " @h\n"
    found = read_owners(text)
    assert [line.number for line in found.lines] == [5]
    assert len(found.remarks) == 7 and all("is left out: " in remark for remark in found.remarks)
    assert "'fares-team' is no owner" in found.remarks[3]
    assert len(read_owners("!\n" * 100).remarks) == MOST_REMARKS


def test_git_reads_the_patterns_the_same_way(tmp_path: Path) -> None:
    """For some hundred made patterns and paths git's own matcher says the same."""
    dice = random.Random(11)
    names = ["a", "b", "src", "fares.py", "tides.py", "deep"]
    segments = [*names, "*", "**", "*.py", "f*", "?", "s?c", "t*s.*"]
    subprocess.run(["git", "init", "-q", str(tmp_path)], check=True)
    paths = sorted({"/".join(dice.choices(names, k=dice.randint(1, 4))) for _ in range(120)})
    # What is a file here and a folder there is no tree.
    paths = [path for path in paths if not any(other.startswith(path + "/") for other in paths)]
    matched = 0
    for _ in range(120):
        parts = dice.choices(segments, k=dice.randint(1, 4))
        pattern = dice.choice(["", "/"]) + "/".join(parts) + dice.choice(["", "", "/"])
        if pattern.rstrip("/").endswith("/*") or pattern == "/*":
            continue  # means something else in these files
        (tmp_path / ".gitignore").write_text(pattern + "\n")
        asked = subprocess.run(
            ["git", "-C", str(tmp_path), "check-ignore", "--no-index", "--stdin"],
            input="\n".join(paths), capture_output=True, text=True, check=False,
        )  # fmt: skip
        owners = read_owners(f"{pattern} @x")
        ours = [path for path in paths if owners.line_for(path) is not None]
        assert ours == asked.stdout.split(), pattern
        matched += bool(ours)
    assert matched > 40


@given(st.text(max_size=400), st.text(max_size=80), st.text(max_size=20))
def test_no_text_breaks_it(text: str, path: str, beneath: str) -> None:
    """Whatever stands in a file, each line is read, left out with a remark, or says nothing."""
    owners = read_owners(text)
    found = owners.line_for(path, beneath)
    assert found is None or found in owners.lines


@pytest.mark.long
def test_twenty_thousand_lines_are_looked_through_in_no_time() -> None:
    """A line is found among 20,000, and stars side by side match in steps, not in powers."""
    lines = [f"/src/part{number}/*.py @owner{number}" for number in range(20_000)]
    owners = read_owners("\n".join(lines))
    found = owners.line_for("src/part137/fares.py")
    assert found is not None and (found.number, found.owners) == (138, ("@owner137",))
    hard = read_owners("/" + "**/" * 20 + "x @a\n" + "*" * 500 + "b @c\n")
    assert hard.line_for("/".join("a" * 28) + "/" + "a" * 200) is None


def test_who_is_meant() -> None:
    """What a team says counts first; a name counts where it can be one person only; a company's team has to be said."""
    people = ["Ida Moss", "Olav Brekke", "jon", "J. On"]
    names = {"@skerry/fares": "Olav Brekke", "@ida": "Ida Moss"}
    assert who_is_meant("@ida-moss", people, {}) == "Ida Moss"
    assert who_is_meant("ida.moss@skerry.example", people, {}) == "Ida Moss"
    assert who_is_meant("@Ida", people, names) == "Ida Moss"
    assert who_is_meant("@ida", people, {}) is None
    assert who_is_meant("@skerry/fares", people, names) == "Olav Brekke"
    assert who_is_meant("@skerry/desk", people, names) is None
    assert who_is_meant("@jon", people, {}) is None, "two are written like that"
    assert who_is_meant("@---", people, {}) is None
